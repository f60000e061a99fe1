//go:build interop

package interop

import (
	"bytes"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/store"
	"varnet/internal/store/migrate"
	"varnet/internal/testkit"
)

const (
	settingsFile = "/etc/varnet/varnet.env"
	unitFolder   = "/usr/lib/systemd/system"
)

// TestPackage installs the release before as a Debian package, sets it up and begins a run;
// upgrades to the package of today while that run goes on, the services of both releases
// beside each other on one database; and removes the package.
func TestPackage(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil {
		t.Skip("there is no dpkg here")
	}
	if _, err := os.Stat("/usr/bin/varnet"); err == nil {
		t.Fatal("/usr/bin/varnet is there already; remove it (apt-get purge varnet), so that this test may install it")
	}
	before, today := dist(t, "-at", releaseBefore(t)), dist(t)
	t.Cleanup(func() { _ = exec.Command("dpkg", "--purge", "varnet").Run() })

	said := must(t, "dpkg", "--install", before)
	if !strings.Contains(said, "varnet key new") {
		t.Errorf("the package does not say how to begin:\n%s", said)
	}
	installedRight(t)
	i, dsn := testkit.World(t, "fernhollow"), testkit.EmptyDatabase(t)
	first, second := testkit.FreePort(t), testkit.FreePort(t)
	settings := strings.Join(append(testkit.Settings(dsn, i)[1:], "VARNET_ROUNDS=5s,2s,2s", "VARNET_LISTEN=127.0.0.1:"+first), "\n") + "\n"
	if err := os.WriteFile(settingsFile, []byte(settings), 0o640); err != nil {
		t.Fatal(err)
	}
	older := begin(t, "varnet.service", first)
	api := client.New("http://127.0.0.1:"+first, strings.TrimSpace(must(t, "runuser", "-u", "varnet", "--", "varnet", "key", "new")))
	if text, err := exec.Command("runuser", "-u", "nobody", "--", "varnet", "key", "new").CombinedOutput(); err == nil || !strings.Contains(string(text), "-dsn") {
		t.Errorf("anybody can read the settings: %s", text)
	}
	list, file := members(t, api, i.World)
	run, err := api.StartRun(t.Context(), list.ID, contract.NewRun{})
	if err != nil {
		t.Fatal(err)
	}

	// The run goes on meanwhile.
	must(t, "dpkg", "--force-confold", "--install", today) // whoever upgrades is asked, and keeps theirs
	if kept, err := os.ReadFile(settingsFile); err != nil || string(kept) != settings {
		t.Errorf("the upgrade changed the settings to %q, %v", kept, err)
	}
	if said := must(t, "varnet", "migrate"); !strings.Contains(said, fmt.Sprintf("to %d.", migrate.Known())) && !strings.Contains(said, "there was nothing to do") {
		t.Errorf("migrate says %q", said)
	}
	if _, err := api.Run(t.Context(), run.ID); err != nil {
		t.Errorf("the release before does not serve the schema of today: %v", err)
	}
	newer := begin(t, "varnet.service", second, "VARNET_LISTEN=127.0.0.1:"+second, "VARNET_METRICS=") // the older has the port
	if r, err := api.Run(t.Context(), run.ID); err != nil || r.State == "finished" {
		t.Errorf("the run did not go on beside the upgrade: %+v, %v", r.State, err)
	}
	second2 := client.New("http://127.0.0.1:"+second, keyOf(t))
	other, _ := members(t, second2, i.World)
	otherRun, err := second2.StartRun(t.Context(), other.ID, contract.NewRun{})
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second) // both work on both runs
	end(t, older)
	for _, id := range []int64{run.ID, otherRun.ID} {
		r, err := second2.Wait(t.Context(), id, func(contract.Run) {})
		if err != nil || r.State != "finished" || r.Done != r.Addresses {
			t.Errorf("run %d: %s, %d of %d, %v", id, r.State, r.Done, r.Addresses, err)
		}
	}
	whole(t, dsn, second2, run, file)
	end(t, newer)

	must(t, "dpkg", "--remove", "varnet")
	gone(t, "/usr/bin/varnet", filepath.Join(unitFolder, "varnet.service"))
	if _, err := os.Stat(settingsFile); err != nil {
		t.Errorf("removing takes the settings: %v", err)
	}
	must(t, "dpkg", "--purge", "varnet")
	gone(t, settingsFile, "/var/lib/varnet")
}

// releaseBefore returns the commit that made the release before what is here: the second heading
// of CHANGELOG.md, whether the first is released or not.
func releaseBefore(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(testkit.Root(), "CHANGELOG.md"))
	if err != nil {
		t.Fatal(err)
	}
	headings := regexp.MustCompile(`(?m)^## \d+\.\d+\.\d+ \(.*$`).FindAllString(string(text), 2)
	if len(headings) < 2 {
		t.Fatalf("CHANGELOG.md names no release before: %q", headings)
	}
	heading := headings[1]
	commits := strings.Fields(must(t, "git", "-C", testkit.Root(), "log", "--reverse", "--format=%H", "-S", heading, "--", "CHANGELOG.md"))
	if len(commits) == 0 {
		t.Fatalf("no commit made the release %q of CHANGELOG.md", heading)
	}
	return commits[0]
}

// dist makes the Debian package for this machine and returns its file.
func dist(t *testing.T, args ...string) string {
	t.Helper()
	folder := t.TempDir()
	if err := os.Chmod(folder, 0o755); err != nil { // dpkg reads it as another user
		t.Fatal(err)
	}
	cmd := exec.Command(filepath.Join(testkit.Root(), "script/dist"), append([]string{"-o", folder, "-arch", strings.TrimSpace(must(t, "dpkg", "--print-architecture"))}, args...)...)
	if text, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("script/dist: %v\n%s", err, text)
	}
	found, _ := filepath.Glob(filepath.Join(folder, "*.deb"))
	if len(found) != 1 {
		t.Fatalf("script/dist made %v", found)
	}
	return found[0]
}

func must(t *testing.T, name string, args ...string) string {
	t.Helper()
	text, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, text)
	}
	return string(text)
}

// installedRight holds the user, the modes and the units of the installed package.
func installedRight(t *testing.T) {
	t.Helper()
	if said := must(t, "varnet", "version"); !strings.HasPrefix(said, "varnet ") || strings.Contains(said, "development") {
		t.Errorf("version says %q", said)
	}
	ours, err := user.Lookup("varnet")
	if err != nil || ours.HomeDir != "/var/lib/varnet" {
		t.Fatalf("the user: %+v, %v", ours, err)
	}
	for path, mode := range map[string]fs.FileMode{settingsFile: 0o640, "/var/lib/varnet": 0o750 | fs.ModeDir, "/usr/bin/varnet": 0o755} {
		info, err := os.Stat(path)
		if err != nil || info.Mode() != mode {
			t.Errorf("%s: %v, %v; want %v", path, info.Mode(), err, mode)
		}
		if gid := strconv.Itoa(int(info.Sys().(*syscall.Stat_t).Gid)); path != "/usr/bin/varnet" && gid != ours.Gid {
			t.Errorf("%s is of group %s; want %s", path, gid, ours.Gid)
		}
	}
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		return
	}
	units, _ := filepath.Glob(filepath.Join(unitFolder, "varnet*.service"))
	if len(units) != 3 {
		t.Errorf("units: %v", units)
	}
	if said := must(t, "systemd-analyze", append([]string{"verify", "--man=no"}, units...)...); strings.Contains(said, "varnet") {
		t.Errorf("systemd does not understand the units:\n%s", said)
	}
}

// begin runs what a unit runs, as its user, and waits until the service at a port is ready.
func begin(t *testing.T, unit, port string, env ...string) *exec.Cmd {
	t.Helper()
	return beginUntil(t, unit, func() bool { return answers(http.DefaultClient, "http://127.0.0.1:"+port+"/readyz") }, env...)
}

// answers reports whether a page is there.
func answers(by *http.Client, page string) bool {
	resp, err := by.Get(page)
	if err != nil {
		return false
	}
	_ = resp.Body.Close()
	return resp.StatusCode == http.StatusOK
}

// beginUntil runs what a unit runs, as its user, and waits until it is ready.
func beginUntil(t *testing.T, unit string, ready func() bool, env ...string) *exec.Cmd {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(unitFolder, unit))
	if err != nil {
		t.Fatal(err)
	}
	does := regexp.MustCompile(`(?m)^ExecStart=(.*)$`).FindSubmatch(text)
	as := regexp.MustCompile(`(?m)^User=(.*)$`).FindSubmatch(text)
	cmd := exec.Command("setpriv", append([]string{"--reuid", string(as[1]), "--regid", string(as[1]), "--clear-groups", "--"}, strings.Fields(string(does[1]))...)...)
	cmd.Dir, cmd.Env = "/var/lib/varnet", append([]string{"PATH=/usr/bin:/bin", "HOME=/var/lib/varnet"}, env...)
	var log bytes.Buffer
	cmd.Stderr = &log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			t.Logf("%s said:\n%s", unit, tail(log.String(), 8))
		}
	})
	for range 300 {
		if ready() {
			return cmd
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Fatalf("%s did not get ready", unit)
	return nil
}

// end stops a service as systemd does.
func end(t *testing.T, cmd *exec.Cmd) {
	t.Helper()
	_ = cmd.Process.Signal(syscall.SIGTERM)
	if err := cmd.Wait(); err != nil {
		t.Errorf("the service ended with %v", err)
	}
}

func keyOf(t *testing.T) string {
	t.Helper()
	return strings.TrimSpace(must(t, "varnet", "key", "new"))
}

// members imports a list and returns it with its bytes.
func members(t *testing.T, api *client.Client, w *practice.World) (contract.List, []byte) {
	t.Helper()
	var b bytes.Buffer
	if err := w.WriteList(&b, 1500); err != nil {
		t.Fatal(err)
	}
	l, err := api.Import(t.Context(), client.File{Name: "members.csv", Body: bytes.NewReader(b.Bytes())})
	if err != nil {
		t.Fatal(err)
	}
	return l, b.Bytes()
}

// whole holds a run to one result for each address, evidence that can be read, and a file
// that comes out as it went in.
func whole(t *testing.T, dsn string, api *client.Client, run contract.Run, file []byte) {
	t.Helper()
	db, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var results, addresses int64
	err = db.Pool().QueryRow(t.Context(), "SELECT count(*), count(DISTINCT ordinal) FROM result_now WHERE run_id = $1", run.ID).Scan(&results, &addresses)
	if err != nil || results != addresses || results == 0 {
		t.Errorf("%d results of %d addresses, %v", results, addresses, err)
	}
	seen := 0
	found, err := api.AllResults(t.Context(), run.ID, url.Values{"operator": {"postbarn.example"}})
	for _, r := range found {
		if e, err := api.Evidence(t.Context(), run.ID, r.Ordinal); err != nil {
			t.Fatalf("evidence of %s: %v", r.Typed, err)
		} else if len(e.Asked) > 0 && e.Asked[0].Conversation != nil {
			seen++
		}
	}
	if err != nil || seen == 0 {
		t.Errorf("%d of %d results show a session, %v", seen, len(found), err)
	}
	var out bytes.Buffer
	if err := api.ExportFile(t.Context(), run.ID, contract.ExportChoice{Decision: "all"}, &out); err != nil || !bytes.Equal(out.Bytes(), file) {
		t.Errorf("of %d bytes %d came out, %v", len(file), out.Len(), err)
	}
}

func gone(t *testing.T, paths ...string) {
	t.Helper()
	for _, p := range paths {
		if _, err := os.Stat(p); err == nil {
			t.Errorf("%s is left", p)
		}
	}
}
