//go:build interop

package interop

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"varnet/internal/testkit"
)

// TestGeneratedClients: clients that well-kept generators make from the contract, for Go and
// for TypeScript, compile and do what a program does with the service.
func TestGeneratedClients(t *testing.T) {
	tools := filepath.Join(testkit.Root(), "tools")
	contract := filepath.Join(testkit.Root(), "web/openapi.json")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), testkit.World(t, "fernhollow")))
	run := func(t *testing.T, name string, args ...string) string {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Dir = tools
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
		}
		return string(out)
	}
	called := func(t *testing.T, out string) {
		t.Helper()
		if n := strings.Count(out, "ok "); n < 10 {
			t.Errorf("%d calls:\n%s", n, out)
		}
	}
	t.Run("Go", func(t *testing.T) {
		if err := os.MkdirAll(filepath.Join(tools, "clients/go/api"), 0o755); err != nil {
			t.Fatal(err)
		}
		run(t, "go", "tool", "oapi-codegen", "-generate", "types,client", "-package", "api", "-o", "clients/go/api/api.gen.go", contract)
		called(t, run(t, "go", "run", "./clients/go", s.URL, s.Key))
	})
	t.Run("TypeScript", func(t *testing.T) {
		run(t, "npx", "--no-install", "openapi-ts", "-i", contract, "-o", "clients/ts/api", "-c", "@hey-api/client-fetch")
		run(t, "npx", "--no-install", "tsc", "-p", "clients/ts")
		called(t, run(t, "node", "clients/ts/built/main.js", s.URL, s.Key))
	})
}
