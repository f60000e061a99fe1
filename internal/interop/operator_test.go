//go:build interop

package interop

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"varnet/internal/testkit"
)

// TestWalkOperator goes the way of an operator with the package alone: install it, make the
// database with its roles, serve over TLS, verify a list by three processes, of which one is
// killed, make a backup that only a key elsewhere opens, and go on from it in another database.
func TestWalkOperator(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil {
		t.Skip("there is no dpkg here")
	}
	t.Cleanup(func() { _ = exec.Command("dpkg", "--purge", "varnet").Run() })
	must(t, "dpkg", "--install", dist(t))
	c := newCluster(t, 0, "")
	must(t, "chmod", "755", c.folder)
	c.must("/usr/share/varnet/database-setup")

	port := testkit.FreePort(t)
	certificate, trusting := certified(t)
	i := testkit.World(t, "fernhollow")
	configure := func(database string) {
		t.Helper()
		settings := append(testkit.Settings(c.dsn("varnet", database), i)[1:], "VARNET_MIGRATE=no", "VARNET_LISTEN=127.0.0.1:"+port, "VARNET_METRICS=",
			"VARNET_TLS_CERT="+certificate, "VARNET_TLS_KEY="+filepath.Join(filepath.Dir(certificate), "key.pem"))
		if err := os.WriteFile(settingsFile, []byte(strings.Join(settings, "\n")+"\n"), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	configure("varnet")
	ready := func() bool { return answers(trusting, "https://127.0.0.1:"+port+"/readyz") }
	service := beginUntil(t, "varnet.service", ready)
	key := strings.TrimSpace(must(t, "runuser", "-u", "varnet", "--", "varnet", "key", "new"))
	varnet := func(args ...string) string {
		t.Helper()
		cmd := exec.Command("varnet", args...)
		cmd.Dir = t.TempDir()
		cmd.Env = append(os.Environ(), "VARNET_SERVER=https://127.0.0.1:"+port, "VARNET_KEY="+key, "SSL_CERT_FILE="+certificate)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("varnet %q: %v\n%s", args, err, out)
		}
		return string(out)
	}
	shows := func(what string, args ...string) func() bool {
		return func() bool { return strings.Contains(varnet(args...), what) }
	}
	second := beginUntil(t, "varnet-worker.service", func() bool { return strings.Count(varnet("workers"), "\n") > 2 })
	third := beginUntil(t, "varnet-worker.service", shows("shed", "workers"), "VARNET_LOCATION=shed")

	folder := t.TempDir()
	members, kept := filepath.Join(folder, "members.csv"), filepath.Join(folder, "kept.csv")
	var list bytes.Buffer
	if err := i.World.WriteList(&list, 3000); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(members, list.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	killed := time.AfterFunc(1500*time.Millisecond, func() { _ = third.Process.Kill() })
	varnet("clean", members, "-out", kept)
	if killed.Stop() {
		t.Error("the run had ended before a worker was killed")
	}
	if said := varnet("runs"); !strings.Contains(said, "finished") {
		t.Errorf("the run did not get to its end:\n%s", said)
	}
	before, err := os.ReadFile(kept)
	if err != nil || len(before) == 0 {
		t.Fatalf("%d bytes were kept, %v", len(before), err)
	}

	// The key is made on another machine, and the backup opened there alone.
	private, backup := filepath.Join(c.folder, "backup.key"), filepath.Join(c.folder, "varnet.backup")
	said := strings.Fields(c.must("varnet", "backup", "key", "-out", private))
	c.must("varnet", "backup", "-out", backup, "-encrypt-to", said[len(said)-1], "-dsn", c.dsn("postgres", "varnet"))
	if sealed, err := os.ReadFile(backup); err != nil || bytes.Contains(sealed, []byte("postbarn")) || len(sealed) < 10_000 {
		t.Errorf("the backup is not a sealed file: %d bytes, %v", len(sealed), err)
	}
	end(t, service)
	end(t, second)
	c.must("createdb", "restored")
	restored := c.dsn("postgres", "restored")
	c.must("varnet", "restore", "-in", backup, "-key", private, "-dsn", restored)
	c.must("varnet", "migrate", "-dsn", restored, "-serve-as", "varnet")
	configure("restored")
	service = beginUntil(t, "varnet.service", ready)
	varnet("export", "1", "-out", kept)
	if after, err := os.ReadFile(kept); err != nil || !bytes.Equal(after, before) {
		t.Errorf("of %d bytes that were kept %d came out of the backup, %v", len(before), len(after), err)
	}
	end(t, service)
}

// certified writes a certificate for this machine and its key where the package's user reads
// them, and returns its file and who trusts it.
func certified(t *testing.T) (file string, trusting *http.Client) {
	t.Helper()
	folder := "/etc/varnet/tls"
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	must(t, "install", "-d", "-m", "755", folder)
	file, key, pool := filepath.Join(folder, "certificate.pem"), filepath.Join(folder, "key.pem"), x509.NewCertPool()
	testkit.Certify(t, file, key, "127.0.0.1", 1, pool)
	must(t, "chgrp", "varnet", key)
	must(t, "chmod", "640", key)
	must(t, "chmod", "644", file)
	return file, &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
}
