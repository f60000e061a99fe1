package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"varnet/internal/testkit"
)

// TestWatch: files of a folder of one's own machine are verified, each once, and their kept rows
// written beside them; one that is not a list is told and keeps the others from nothing.
func TestWatch(t *testing.T) {
	t.Parallel()
	i, folder := testkit.World(t, "fernhollow"), t.TempDir()
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	header, lines, _ := people(t, i.World, 60)
	put := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	watch := func(more ...string) (out string, ok bool) {
		t.Helper()
		text, err := testkit.Command(s.Env, append([]string{"watch", folder, "-once"}, more...)...).CombinedOutput()
		return string(text), err == nil
	}
	put("members.csv", header+strings.Join(lines[:30], ""))
	put("guests.csv", header+strings.Join(lines[30:], ""))
	put("notes.csv", "Call Ada.\n")
	out, ok := watch()
	if !ok || strings.Count(out, "Written to") != 2 || !strings.Contains(out, "notes.csv: ") {
		t.Fatalf("%v: %s", ok, out)
	}
	for name, rows := range map[string][]string{"members": lines[:30], "guests": lines[30:]} {
		kept, err := os.ReadFile(filepath.Join(folder, name+"-kept.csv"))
		if err != nil {
			t.Fatal(err)
		}
		if checkKept(t, i.World, []byte(header+strings.Join(rows, "")), kept) == 0 {
			t.Errorf("nothing of %s is kept", name)
		}
	}
	if out, ok := watch(); !ok || strings.Contains(out, "Written to") {
		t.Errorf("once more: %v: %s", ok, out)
	}
	time.Sleep(20 * time.Millisecond)
	put("members.csv", header+strings.Join(lines[5:30], ""))
	if out, ok := watch(); !ok || strings.Count(out, "Written to") != 1 {
		t.Errorf("a newer file: %v: %s", ok, out)
	}
	if out, ok := watch("-policy", "frown"); ok || !strings.Contains(out, `no policy named "frown"`) {
		t.Errorf("a policy there is not: %v: %s", ok, out)
	}
	if out, ok := watch("-naming", "{name}-{date}", "-pattern", "guests.csv"); !ok || !strings.Contains(out, "guests-"+time.Now().Format("2006-01-02")+".csv") {
		t.Errorf("another name: %v: %s", ok, out)
	}
}
