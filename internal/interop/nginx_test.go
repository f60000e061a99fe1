//go:build interop

package interop

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"varnet/internal/testkit"
)

const publicName = "varnet.fernhollow.example"

// startNginx starts nginx with the example of packaging, at ports and with files of its own, in
// front of a service.
func startNginx(t *testing.T, service string) (at string, trusted *x509.CertPool) {
	t.Helper()
	folder := t.TempDir()
	trusted = x509.NewCertPool()
	testkit.Certify(t, filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem"), publicName, 1, trusted)
	example, err := os.ReadFile(filepath.Join(testkit.Root(), "packaging/nginx.conf"))
	if err != nil {
		t.Fatal(err)
	}
	at = "127.0.0.1:" + testkit.FreePort(t)
	conf := strings.NewReplacer("listen 443", "listen "+at, "listen 80", "listen 127.0.0.1:"+testkit.FreePort(t), "127.0.0.1:8025", service, "/etc/ssl/varnet", folder).Replace(string(example))
	for name, text := range map[string][]byte{
		"varnet.conf": []byte(conf),
		"nginx.conf": fmt.Appendf(nil, "daemon off;\npid %[1]s/pid;\nerror_log %[1]s/error.log;\nevents {}\nhttp {\naccess_log off;\nclient_body_temp_path %[1]s/body;\nproxy_temp_path %[1]s/proxy;\n"+
			"fastcgi_temp_path %[1]s/fastcgi;\nuwsgi_temp_path %[1]s/uwsgi;\nscgi_temp_path %[1]s/scgi;\ninclude %[1]s/varnet.conf;\n}\n", folder),
	} {
		if err := os.WriteFile(filepath.Join(folder, name), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command("nginx", "-c", filepath.Join(folder, "nginx.conf"), "-p", folder)
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for range 100 {
		if conn, err := net.Dial("tcp", at); err == nil {
			_ = conn.Close()
			return at, trusted
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("nginx does not start: %s", &said)
	return "", nil
}

// TestNginx: behind nginx people have cookies for TLS alone, their own address counts and not
// the one they say, files and event streams go through as they come.
func TestNginx(t *testing.T) {
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), testkit.World(t, "fernhollow")), "VARNET_HOSTS="+publicName+",localhost", "VARNET_PROXIES=127.0.0.1/32"))
	at, trusted := startNginx(t, strings.Replace(strings.TrimPrefix(s.URL, "http://"), "localhost", "127.0.0.1", 1))
	// They come from another address than the proxy itself.
	from := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 5)}}
	visitor := &http.Client{Transport: &http.Transport{DialContext: from.DialContext, TLSClientConfig: &tls.Config{RootCAs: trusted, ServerName: publicName}, ForceAttemptHTTP2: true}}
	ask := func(method, path, body string, header map[string]string) *http.Response {
		t.Helper()
		req, err := http.NewRequest(method, "https://"+at+"/api/v1"+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Host = publicName
		for name, value := range header {
			req.Header.Set(name, value)
		}
		resp, err := visitor.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = resp.Body.Close() })
		return resp
	}
	signedIn := ask("POST", "/sign-in/password", fmt.Sprintf(`{"address":%q,"password":%q}`, testkit.Person, testkit.Password), map[string]string{"Content-Type": "application/json", "X-Forwarded-For": "203.0.113.9", "Forwarded": "for=203.0.113.9"})
	if signedIn.StatusCode != http.StatusOK || signedIn.ProtoMajor != 2 {
		t.Fatalf("%s by %s", signedIn.Status, signedIn.Proto)
	}
	cookies := signedIn.Header.Get("Set-Cookie")
	if !strings.HasPrefix(cookies, "__Host-") || !strings.Contains(cookies, "Secure") || signedIn.Header.Get("Strict-Transport-Security") == "" {
		t.Errorf("the cookie is %q, the headers %v", cookies, signedIn.Header)
	}
	key := map[string]string{"Authorization": "Bearer " + s.Key}
	var said bytes.Buffer
	_, _ = said.ReadFrom(ask("GET", "/audit?action=sign-in", "", key).Body)
	if !strings.Contains(said.String(), "127.0.0.5") || strings.Contains(said.String(), "203.0.113.9") {
		t.Errorf("the audit trail says: %s", &said)
	}

	stream := ask("GET", "/events", "", key)
	events := bufio.NewScanner(stream.Body)
	told := make(chan string, 100)
	go func() {
		defer close(told)
		for events.Scan() {
			told <- events.Text()
		}
	}()
	file := "e-mail\n" + strings.Repeat("ada.moss@fernhollow.example\n", 200_000)
	if made := ask("POST", "/lists?name=members.csv", file, key); made.StatusCode != http.StatusCreated {
		t.Fatalf("a file of %d bytes: %s", len(file), made.Status)
	}
	for late := time.After(5 * time.Second); ; {
		select {
		case line, more := <-told:
			if strings.Contains(line, "list") {
				return
			}
			if !more {
				t.Fatal("the event stream ended")
			}
		case <-late:
			t.Fatal("the change was not told within 5 seconds")
		}
	}
}
