// Package core_test holds what is true of the core as a whole.
package core_test

import (
	"os/exec"
	"strings"
	"testing"
)

// allowed are the modules beside the standard library that the core may use.
var allowed = []string{"varnet/core", "golang.org/x/net", "golang.org/x/text", "golang.org/x/sys", "golang.org/x/sync", "github.com/miekg/dns", "blitiri.com.ar/go/spf", "github.com/teambition/rrule-go"}

// forbidden are the standard packages of interfaces the core must not know.
// They hold no JSON either: contract and store/pack have the forms of API and database.
var forbidden = []string{"encoding/json", "net/http", "database/sql", "os/exec", "html/template"}

func output(t *testing.T, args ...string) string {
	t.Helper()
	out, err := exec.Command("go", append([]string{"list"}, args...)...).Output()
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

func list(t *testing.T, args ...string) []string {
	t.Helper()
	return strings.Fields(output(t, args...))
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

// middle are the packages between who asks (API, jobs, commands) and the store: what they
// know, every one of those may use.
var middle = []string{"decide", "export", "summary", "intake", "outbound", "report", "follow", "live", "account", "letter", "outbox", "webhook", "clock", "routine", "connect", "connection", "writeback", "bounce", "trial", "workshop", "odds", "activity", "opinion", "allowance", "pay", "rights", "move"}

// TestDirections holds cmd → internal → core, and within internal: api and work → the
// packages of the middle → store. Nothing below the API knows HTTP requests, the API and the
// middle hold no SQL, the command line works through the client.
func TestDirections(t *testing.T) {
	imports := map[string]string{}
	for _, line := range strings.Split(strings.TrimSpace(output(t, "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "varnet/...")), "\n") {
		pkg, of, _ := strings.Cut(line, " ")
		if pkg == "varnet/internal/store" { // its own parts
			of = strings.NewReplacer("varnet/internal/store/migrate", "", "varnet/internal/store/pack", "").Replace(of)
		}
		imports[strings.TrimPrefix(pkg, "varnet/")] = " " + of + " "
	}
	never := map[string][]string{
		"internal/api":   {"pgx", "database/sql", "varnet/internal/practice"},
		"internal/store": {"varnet/internal/", "net/http"},
		// What has been released does not change with the packages that go on changing.
		"internal/store/migrate": {"varnet/"},
		"internal/store/pack":    {"varnet/internal/"},
		"internal/client":        {"varnet/internal/store/", "varnet/internal/store ", "varnet/internal/api", "varnet/internal/work"},
		"internal/work":          {"varnet/internal/api", "net/http", "varnet/internal/practice"},
		"internal/practice":      {"varnet/internal/store", "varnet/internal/api", "varnet/core/reply", "varnet/core/probe"},
		"internal/contract":      {"varnet/internal/", "net/http"},
	}
	for _, m := range middle {
		never["internal/"+m] = append(never["internal/"+m], "varnet/internal/api", "varnet/internal/work", "varnet/internal/practice", "varnet/internal/client", "huma", "go-chi")
	}
	for pkg, of := range imports {
		if strings.HasPrefix(pkg, "core") {
			never[pkg] = append(never[pkg], "varnet/internal/", "varnet/cmd/")
		}
		if strings.HasPrefix(pkg, "internal/") && !strings.HasPrefix(pkg, "internal/api") {
			never[pkg] = append(never[pkg], " varnet/cmd/")
		}
		for _, n := range never[pkg] {
			if strings.Contains(of, n) {
				t.Errorf("%s imports %s: %s", pkg, n, of)
			}
		}
	}
	for pkg := range never {
		if _, ok := imports[pkg]; !ok {
			t.Errorf("there is no package %s", pkg)
		}
	}
}
