//go:build interop

package interop

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestClock sets the database's clock in the middle of a run, an hour back, two hours forward
// and back again, twice: the run ends about when it would have, and every address has its result.
func TestClock(t *testing.T) {
	faked, _ := filepath.Glob("/usr/lib/*/faketime/libfaketime.so.1")
	if len(faked) == 0 {
		t.Fatal("libfaketime is not installed")
	}
	c := newCluster(t, 0, "")
	c.stop()
	setting := filepath.Join(c.folder, "clock")
	set := func(offset string) {
		t.Helper()
		if err := os.WriteFile(setting, []byte(offset+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	set("+0")
	c.env = []string{"LD_PRELOAD=" + faked[0], "FAKETIME_TIMESTAMP_FILE=" + setting, "FAKETIME_NO_CACHE=1", "FAKETIME_DONT_FAKE_MONOTONIC=1"}
	c.start()
	c.must("createdb", "varnet")
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, append(testkit.Settings(c.dsn("postgres", "varnet"), i), "VARNET_ROUNDS=6s,9s,12s,15s"))
	api := client.New(s.URL, s.Key)

	// took is how long a run of the members took, while something is done to the clock.
	took := func(disturb func(run contract.Run)) (time.Duration, map[string]int64) {
		t.Helper()
		list, _ := members(t, api, i.World)
		begun := time.Now()
		run, err := api.StartRun(t.Context(), list.ID, contract.NewRun{})
		if err != nil {
			t.Fatal(err)
		}
		disturb(run)
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
		defer cancel()
		run, err = api.Wait(ctx, run.ID, func(contract.Run) {})
		if err != nil || run.Done != run.Addresses {
			t.Fatalf("%s, %d of %d: %v", run.State, run.Done, run.Addresses, err)
		}
		found := map[string]int64{}
		for _, c := range run.Causes {
			found[string(c.Cause)] = c.Addresses
		}
		return time.Since(begun), found
	}
	calm, want := took(func(contract.Run) {})
	jumping, got := took(func(contract.Run) {
		for _, offset := range []string{"-3600", "+3600", "-7200", "-10800"} {
			time.Sleep(4 * time.Second)
			set(offset)
		}
	})
	t.Logf("undisturbed %v, with four jumps %v", calm, jumping)
	if jumping > calm+60*time.Second {
		t.Errorf("the run took %v, %v undisturbed", jumping, calm)
	}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("findings %v, undisturbed %v", got, want)
	}
}
