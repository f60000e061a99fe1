package web_test

import (
	"bytes"
	"compress/gzip"
	"io/fs"
	"path"
	"regexp"
	"strings"
	"testing"

	"varnet/web"
)

var (
	imported = regexp.MustCompile(`(?:from|import)\s*"\./([^"]+\.js)"`)
	linked   = regexp.MustCompile(`/assets/([^"]+\.js)`)
	foreign  = regexp.MustCompile(`(?:src|href)="(?:https?:)?//`)
)

// firstView is how many bytes of script the first pages may take, packed.
const firstView = 200_000

func read(t *testing.T, name string) string {
	t.Helper()
	text, err := fs.ReadFile(web.Dist, path.Join("dist", name))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// needed are the scripts that one needs, with those that these need.
func needed(t *testing.T, scripts []string) map[string]bool {
	t.Helper()
	all := map[string]bool{}
	for len(scripts) > 0 {
		name := scripts[0]
		scripts = scripts[1:]
		if all[name] {
			continue
		}
		all[name] = true
		for _, m := range imported.FindAllStringSubmatch(read(t, path.Join("assets", name)), -1) {
			scripts = append(scripts, m[1])
		}
	}
	return all
}

// TestTheFirstViewIsSmall: signing in and seeing the lists takes no more than
// firstView bytes of script; what other pages need comes when they are gone to.
func TestTheFirstViewIsSmall(t *testing.T) {
	entries, err := fs.ReadDir(web.Dist, "dist/assets")
	if err != nil {
		t.Fatal(err)
	}
	var shell []string
	for _, m := range linked.FindAllStringSubmatch(read(t, "index.html"), -1) {
		shell = append(shell, m[1])
	}
	for _, page := range []string{"SignIn-", "Lists-"} {
		scripts := append([]string{}, shell...)
		for _, e := range entries {
			if (strings.HasPrefix(e.Name(), page) || strings.HasPrefix(e.Name(), "Frame-")) && strings.HasSuffix(e.Name(), ".js") {
				scripts = append(scripts, e.Name())
			}
		}
		if len(scripts) <= len(shell) {
			t.Fatalf("there is no script of %s", page)
		}
		var packed bytes.Buffer
		for name := range needed(t, scripts) {
			z := gzip.NewWriter(&packed)
			_, _ = z.Write([]byte(read(t, path.Join("assets", name))))
			if err := z.Close(); err != nil {
				t.Fatal(err)
			}
		}
		if packed.Len() > firstView {
			t.Errorf("the page %s takes %d bytes of script; %d are the most", page, packed.Len(), firstView)
		}
	}
}

// TestNothingComesFromElsewhere: the page links nothing of another host.
func TestNothingComesFromElsewhere(t *testing.T) {
	if page := read(t, "index.html"); foreign.MatchString(page) {
		t.Errorf("the page links to another host:\n%s", page)
	}
	err := fs.WalkDir(web.Dist, "dist", func(name string, _ fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(name, ".css") {
			if text := read(t, strings.TrimPrefix(name, "dist/")); strings.Contains(text, "@import") || strings.Contains(text, "url(http") || strings.Contains(text, "url(//") {
				t.Errorf("%s takes something from another host", name)
			}
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}
