package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestBackup takes a backup in the middle of a run and restores it elsewhere: the run goes on
// there by itself, to one result for each address. What cannot be restored leaves the database
// empty.
func TestBackup(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, folder := client.New(s.URL, s.Key), t.TempDir()
	varnet := func(args ...string) (string, bool) {
		t.Helper()
		out, err := testkit.Command(s.Env, args...).CombinedOutput()
		return string(out), err == nil
	}
	must := func(args ...string) string {
		t.Helper()
		out, ok := varnet(args...)
		if !ok {
			t.Fatalf("%q: %s", args, out)
		}
		return out
	}
	in := func(name string) string { return filepath.Join(folder, name) }
	key := strings.Fields(must("backup", "key", "-out", in("backup.key")))
	public := key[len(key)-1]
	must("backup", "key", "-out", in("other.key"))

	_, content := writeList(t, i.World, rows)
	run := start(t, api, content)
	waitForTheMiddle(t, api, run.ID)
	says := must("backup", "-out", in("sealed"), "-encrypt-to", public)
	inTheMiddle(t, api, run.ID)
	if !strings.Contains(says, "encrypted. The installation's secret is not in it") {
		t.Errorf("it says: %s", says)
	}
	plain, err := testkit.Command(s.Env, "backup", "-out", "-").Output()
	if err != nil || !bytes.HasPrefix(plain, []byte("Varnet backup 1\n")) {
		t.Fatalf("%v, %.40q", err, plain)
	}
	files := map[string][]byte{"plain": plain, "cut": plain[:len(plain)*2/3], "none": []byte("e-mail\nada@fernhollow.example\n"),
		"newer": bytes.Replace(plain, []byte(`"schema":`), []byte(`"schema":9`), 1)}
	for name, text := range files {
		if err := os.WriteFile(in(name), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if sealed, err := os.ReadFile(in("sealed")); err != nil || bytes.Contains(sealed, []byte("PGDMP")) {
		t.Errorf("it is not encrypted, %v", err)
	}

	empty := testkit.EmptyDatabase(t)
	for _, c := range []struct{ want, file, key, dsn string }{
		{"this is not a backup of Varnet", "none", "", empty},
		{"the backup is encrypted; name the file", "sealed", "", empty},
		{"encrypted to other keys", "sealed", "other.key", empty},
		{"holds no private key", "sealed", "plain", empty},
		{"this release knows", "newer", "", empty},
		{"nothing was restored", "cut", "", empty},
		{"there is something in the database already", "plain", "", s.Setting("VARNET_DSN")},
	} {
		args := []string{"restore", "-in", in(c.file), "-dsn", c.dsn}
		if c.key != "" {
			args = append(args, "-key", in(c.key))
		}
		if out, ok := varnet(args...); ok || !strings.Contains(out, c.want) {
			t.Errorf("%s: %s", c.want, out)
		}
	}
	if err := s.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	must("restore", "-in", in("sealed"), "-key", in("backup.key"), "-dsn", empty)
	s.Env = append(s.Env, "VARNET_DSN="+empty)
	s.Start(t)
	r, err := api.Wait(t.Context(), run.ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}
	checkResults(t, api, r, i.World)
}
