//go:build interop

package interop

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// pooler starts pgbouncer in front of the server of a DSN, and returns the DSN that leads through it, and what
// breaks it off and starts it again.
func pooler(t *testing.T, dsn string) (pooled string, restart func()) {
	t.Helper()
	folder, err := os.MkdirTemp("/tmp", "varnet-pooler-")
	if err == nil {
		err = os.Chmod(folder, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	script := filepath.Join(testkit.Root(), "script/pooler")
	t.Cleanup(func() {
		_ = exec.Command(script, "stop", folder).Run()
		_ = os.RemoveAll(folder)
	})
	return strings.TrimSpace(must(t, script, "start", folder, dsn)), func() { must(t, script, "restart", folder) }
}

// TestPooler: behind a pooler that gives each transaction another session, all goes as without: imports,
// runs by several workers, pages, files, what is watched, single checks; and when it is broken off, all goes on.
func TestPooler(t *testing.T) {
	dsn := testkit.Database(t)
	pooled, restart := pooler(t, dsn)
	i := testkit.World(t, "fernhollow")
	settings := append(testkit.Settings(pooled, i), "VARNET_SESSION_DSN="+dsn)
	s := testkit.Serve(t, settings)
	worker := testkit.Command(s.Env, "worker", "-log-level", "warn")
	var said testkit.Log
	worker.Stderr = &said
	if err := worker.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = worker.Process.Signal(syscall.SIGTERM)
		_ = worker.Wait()
		if t.Failed() {
			t.Logf("the worker's log:\n%s", &said)
		}
	})
	api := client.New(s.URL, s.Key)
	list, file := members(t, api, i.World)
	run, err := api.StartRun(t.Context(), list.ID, contract.NewRun{})
	if err != nil {
		t.Fatal(err)
	}
	told := 0
	broken := false
	ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
	defer cancel()
	run, err = api.Wait(ctx, run.ID, func(r contract.Run) { // by the event stream, which listens past the pooler
		if told++; !broken && r.Done > 300 {
			broken = true
			restart()
		}
	})
	if err != nil || run.Done != run.Addresses || told < 3 || !broken {
		t.Fatalf("%d of %d addresses are done, told %d times, broken off: %v, %v", run.Done, run.Addresses, told, broken, err)
	}
	whole(t, dsn, api, run, file)
	results, err := api.AllResults(t.Context(), run.ID, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range results {
		if i.World.Truth(practice.Canonical(r.Typed)).Refutes(r.Finding) {
			t.Errorf("%s is %s by %s", r.Typed, r.Finding, r.Cause)
		}
	}
	checked, err := api.Check(t.Context(), []string{"ada.moss@fernhollow.example"})
	if err != nil || len(checked) != 1 || checked[0].Finding == "" {
		t.Errorf("%+v, %v", checked, err)
	}
	// A larger file goes in by COPY, in one transaction of many statements.
	var b bytes.Buffer
	if err := i.World.WriteList(&b, 30_000); err != nil {
		t.Fatal(err)
	}
	large, err := api.Import(t.Context(), client.File{Name: "guests.csv", Body: bytes.NewReader(b.Bytes())})
	if err != nil || large.Rows != 30_000 {
		t.Fatalf("%d rows, %v", large.Rows, err)
	}
	if err := api.DeleteList(t.Context(), large.ID); err != nil {
		t.Fatal(err)
	}
	workers, err := api.Workers(t.Context())
	if err != nil || len(workers) != 2 || time.Since(workers[1].SeenAt) > 10*time.Second {
		t.Errorf("workers: %+v, %v", workers, err)
	}
}
