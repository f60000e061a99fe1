// Package core_test holds what is true of the core as a whole.
package core_test

import (
	"os/exec"
	"strings"
	"testing"
)

// allowed are the modules beside the standard library that the core may use.
var allowed = []string{"varnet/core", "golang.org/x/net", "golang.org/x/text", "golang.org/x/sys", "golang.org/x/sync", "github.com/miekg/dns", "blitiri.com.ar/go/spf"}

// forbidden are the standard packages of interfaces the core must not know.
var forbidden = []string{"net/http", "database/sql", "os/exec", "html/template"}

func list(t *testing.T, args ...string) []string {
	t.Helper()
	out, err := exec.Command("go", append([]string{"list"}, args...)...).Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.Fields(string(out))
}

func TestCoreStandsAlone(t *testing.T) {
	for _, dep := range list(t, "-f", "{{join .Imports \"\\n\"}}", "./...") {
		for _, f := range forbidden {
			if dep == f {
				t.Errorf("the core imports %s", dep)
			}
		}
	}
	for _, dep := range list(t, "-deps", "./...") {
		first, _, _ := strings.Cut(dep, "/")
		if !strings.Contains(first, ".") && first != "varnet" || strings.HasPrefix(dep, "vendor/") {
			continue // the standard library
		}
		ok := false
		for _, a := range allowed {
			ok = ok || strings.HasPrefix(dep, a)
		}
		if !ok {
			t.Errorf("the core uses %s", dep)
		}
	}
}

// TestDirections holds cmd → internal → core: the API holds no SQL, the store
// knows no HTTP interface, the command line works through the client.
func TestDirections(t *testing.T) {
	imports := func(pkg string) string {
		out, err := exec.Command("go", "list", "-f", "{{join .Imports \" \"}}", "varnet/"+pkg).Output()
		if err != nil {
			t.Fatal(err)
		}
		return " " + string(out) + " "
	}
	for pkg, never := range map[string][]string{
		"internal/api":      {"pgx", "database/sql", "internal/practice"},
		"internal/store":    {"internal/api", "internal/work", "net/http"},
		"internal/client":   {"internal/store", "internal/api", "internal/work"},
		"internal/work":     {"internal/api", "net/http", "internal/practice"},
		"internal/practice": {"internal/store", "internal/api", "core/reply", "core/probe"},
	} {
		for _, n := range never {
			if strings.Contains(imports(pkg), n) {
				t.Errorf("%s imports %s", pkg, n)
			}
		}
	}
}
