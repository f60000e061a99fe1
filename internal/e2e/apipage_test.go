package e2e

import (
	"fmt"
	"html"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"varnet/internal/testkit"
)

// shell runs a script in a folder, with a service's address and key in its environment, and
// returns what it says.
func shell(t *testing.T, s *testkit.Service, folder, script string) (string, error) {
	t.Helper()
	c := exec.CommandContext(t.Context(), "bash", "-euc", script)
	c.Dir, c.Env = folder, append(os.Environ(), "VARNET_SERVER="+s.URL, "VARNET_KEY="+s.Key)
	out, err := c.CombinedOutput()
	return string(out), err
}

var shellBlock = regexp.MustCompile("(?s)```sh\n(.*?)```\n(?:\n```text\n(.*?)```\n)?")

// TestPageOfTheAPI: the calls of docs/api.md answer what the page shows.
func TestPageOfTheAPI(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join(testkit.Root(), "docs/api.md"))
	if err != nil {
		t.Fatal(err)
	}
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), testkit.World(t, "fernhollow")))
	folder := t.TempDir()
	list := "name,e-mail\nWren,wren.hayward@fernhollow.example\nBea,nobody.atall@fernhollow.example\nCai,cai@@fernhollow.example\nWren,Wren.Hayward@fernhollow.example\n"
	if err := os.WriteFile(filepath.Join(folder, "members.csv"), []byte(list), 0o600); err != nil {
		t.Fatal(err)
	}
	const between = "-- next --\n"
	var script, want []string
	for _, m := range shellBlock.FindAllStringSubmatch(string(text), -1) {
		script, want = append(script, m[1], "echo '"+strings.TrimSpace(between)+"'\n"), append(want, m[2])
	}
	out, err := shell(t, s, folder, strings.Join(script, ""))
	if err != nil {
		t.Errorf("%v:\n%s", err, out)
	}
	for i, got := range strings.Split(strings.TrimSuffix(out, between), between) {
		fits := regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(want[i]), "…", "[^\n]*") + "$")
		if !fits.MatchString(got) {
			t.Errorf("step %d answers %q, the page says %q", i+1, got, want[i])
		}
	}
	if len(want) < 8 {
		t.Errorf("%d steps", len(want))
	}
}

var shownCall = regexp.MustCompile(`(?s)<h3 id="([^"]*)">.*?<pre>(.*?)</pre>`)

// TestCallsOfTheReference: every call that the reference shows is one that the service takes: what
// it then finds amiss is that there is no such record, or nothing worse.
func TestCallsOfTheReference(t *testing.T) {
	t.Parallel()
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), testkit.World(t, "fernhollow")))
	resp, err := http.Get(s.URL + "/api/v1/docs")
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(resp.Body)
	_ = resp.Body.Close()
	if err != nil {
		t.Fatal(err)
	}
	all := shownCall.FindAllStringSubmatch(string(text), -1)
	if len(all) < 200 {
		t.Fatalf("%d calls", len(all))
	}
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "members.csv"), []byte("e-mail\nada.moss@fernhollow.example\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	at := make(chan struct{}, 8) // some calls wait for what is not there
	var going sync.WaitGroup
	for n, m := range all {
		call := html.UnescapeString(m[2])
		if strings.Contains(m[1], "watch-") { // it goes on until it is broken off
			call += " -m 1"
		}
		at <- struct{}{}
		going.Go(func() {
			defer func() { <-at }()
			file := fmt.Sprintf("answer-%d", n)
			out, err := shell(t, s, folder, call+" -o "+file+` -w '%{http_code}'`)
			answer, _ := os.ReadFile(filepath.Join(folder, file))
			status := out[max(0, len(out)-3):]
			if !slices.Contains([]string{"200", "201", "202", "204", "303", "401", "403", "404", "409", "412"}, status) && (status != "422" || misshapen.Match(answer)) {
				t.Errorf("%s: %v: %s\n%s\n%.400s", m[1], err, out, call, answer)
			}
		})
	}
	going.Wait()
}

// misshapen is an answer that a call has not the shape that its operation takes.
var misshapen = regexp.MustCompile(`"message":"(un)?expected`)
