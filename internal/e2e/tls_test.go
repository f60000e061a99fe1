package e2e

import (
	"crypto/tls"
	"crypto/x509"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"varnet/internal/testkit"
)

const ownName = "varnet.fernhollow.example"

// serveTLS starts a service over TLS, and returns how to end it.
func serveTLS(t *testing.T, settings []string, listen string, trusted *x509.CertPool) (stop func()) {
	t.Helper()
	cmd := testkit.Command(append(settings, "VARNET_LISTEN="+listen, "VARNET_METRICS="), "serve")
	var log strings.Builder
	cmd.Stderr = &log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var ended bool
	stop = func() {
		if !ended {
			ended = true
			_ = cmd.Process.Signal(syscall.SIGTERM)
			_ = cmd.Wait()
		}
	}
	t.Cleanup(stop)
	for range 300 {
		if _, err := shownCertificate(listen, trusted); err == nil {
			return stop
		}
		time.Sleep(100 * time.Millisecond)
	}
	stop()
	t.Fatalf("it does not serve over TLS:\n%s", &log)
	return nil
}

// shownCertificate is the certificate that a service shows for its name, once it holds.
func shownCertificate(listen string, trusted *x509.CertPool) (*x509.Certificate, error) {
	conn, err := tls.Dial("tcp", listen, &tls.Config{ServerName: ownName, RootCAs: trusted, MinVersion: tls.VersionTLS12})
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	return conn.ConnectionState().PeerCertificates[0], nil
}

// TestCertificateByACME: the service gets its certificate by itself, keeps it over a restart,
// shows it for its own names alone, and leads there from plain HTTP.
func TestCertificateByACME(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	port := testkit.FreePort(t)
	number, _ := strconv.Atoi(port)
	a, err := i.StartAuthority("127.0.0.1:0", number)
	if err != nil {
		t.Fatal(err)
	}
	trusted := x509.NewCertPool()
	trusted.AddCert(a.Root)
	listen, leading := "127.0.0.1:"+port, "127.0.0.1:"+testkit.FreePort(t)
	settings := append(testkit.Settings(testkit.Database(t), i), "VARNET_TLS_NAMES="+ownName, "VARNET_ACME_DIRECTORY="+a.Directory, "VARNET_ACME_FOLDER="+filepath.Join(t.TempDir(), "acme"), "VARNET_REDIRECT="+leading)
	stop := serveTLS(t, settings, listen, trusted)
	first, err := shownCertificate(listen, trusted)
	if err != nil {
		t.Fatal(err)
	}
	if conn, err := tls.Dial("tcp", listen, &tls.Config{ServerName: "elsewhere.example", InsecureSkipVerify: true}); err == nil {
		_ = conn.Close()
		t.Error("it shows a certificate for a name that is not its own")
	}
	lead := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for _, c := range []struct {
		method, path, key string
		code              int
		to                string
	}{
		{"GET", "/lists?search=moss", "", http.StatusMovedPermanently, "https://127.0.0.1/lists?search=moss"},
		{"POST", "/api/v1/lists", "", http.StatusForbidden, ""},
		{"GET", "/api/v1/lists", "Bearer a key", http.StatusForbidden, ""},
	} {
		req, _ := http.NewRequest(c.method, "http://"+leading+c.path, nil)
		if c.key != "" {
			req.Header.Set("Authorization", c.key)
		}
		resp, err := lead.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		if resp.StatusCode != c.code || resp.Header.Get("Location") != c.to {
			t.Errorf("%s %s: %s, %q", c.method, c.path, resp.Status, resp.Header.Get("Location"))
		}
	}
	stop()
	serveTLS(t, settings, listen, trusted)
	if again, err := shownCertificate(listen, trusted); err != nil || !again.Equal(first) {
		t.Errorf("another certificate after a restart, %v", err)
	}
	if names := a.Issued(); !slices.Equal(names, []string{ownName}) {
		t.Errorf("certificates were given for %q", names)
	}
}

// TestCertificateFiles: a certificate in files is taken up when they change, and one that is
// half written is not.
func TestCertificateFiles(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	folder, listen := t.TempDir(), "127.0.0.1:"+testkit.FreePort(t)
	file, key := filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	trusted := x509.NewCertPool()
	write := func(number int64) { testkit.Certify(t, file, key, ownName, number, trusted) }
	write(1)
	serveTLS(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_TLS_CERT="+file, "VARNET_TLS_KEY="+key), listen, trusted)
	shows := func() int64 {
		c, err := shownCertificate(listen, trusted)
		if err != nil {
			t.Fatal(err)
		}
		return c.SerialNumber.Int64()
	}
	if n := shows(); n != 1 {
		t.Errorf("it shows the certificate %d", n)
	}
	whole, _ := os.ReadFile(file)
	if err := os.WriteFile(file, whole[:len(whole)/2], 0o600); err != nil {
		t.Fatal(err)
	}
	time.Sleep(11 * time.Second)
	if n := shows(); n != 1 {
		t.Errorf("with half a file it shows the certificate %d", n)
	}
	write(2)
	for end := time.Now().Add(15 * time.Second); shows() != 2; time.Sleep(500 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the new certificate is not taken up")
		}
	}
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{ServerName: ownName, RootCAs: trusted}}}
	resp, err := client.Get("https://" + listen + "/api/v1/sign-in")
	if err != nil {
		t.Fatal(err)
	}
	_ = resp.Body.Close()
	if resp.Header.Get("Strict-Transport-Security") == "" || resp.Header.Get("Cache-Control") != "no-store" {
		t.Errorf("the headers are %v", resp.Header)
	}
}
