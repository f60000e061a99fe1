package e2e

import (
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestLocation: a worker at a location of its own brings a route of its own, by which it alone works: runs and
// single checks go by it where the service has no way out, and wait while nobody is there.
func TestLocation(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	if out, err := testkit.Command(s.Env, "worker", "-location", "The Shed").CombinedOutput(); err == nil || !strings.Contains(string(out), "names no location") {
		t.Errorf("a location of another form: %v, %s", err, out)
	}
	begin := func() (end func()) {
		w := testkit.Command(s.Env, "worker", "-location", "shed", "-log-level", "warn")
		if err := w.Start(); err != nil {
			t.Fatal(err)
		}
		return func() { _ = w.Process.Signal(syscall.SIGTERM); _ = w.Wait() }
	}
	end := begin()
	defer func() { end() }()
	route := func(name string) (found contract.OutboundPart) {
		o, err := api.Outbound(ctx)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range o.Parts {
			if p.Kind == "route" && p.Name == name {
				found = p
			}
		}
		return found
	}
	eventually(t, 30*time.Second, func() (bool, string) {
		p := route("direct at shed")
		return p.Grade == "good", fmt.Sprintf("its route is %+v", p)
	})
	if err := api.RemovePart(ctx, route("direct").ID); err != nil {
		t.Fatal(err)
	}
	list := imported(t, api, i.World, "members", 200)
	run, err := api.StartRun(ctx, list.ID, contract.NewRun{})
	if err == nil {
		run, err = api.Wait(ctx, run.ID, func(contract.Run) {})
	}
	if err != nil || run.Done != run.Addresses {
		t.Fatalf("%d of %d, %v", run.Done, run.Addresses, err)
	}
	workers, err := api.Workers(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range workers {
		if at := w.Routes["direct at shed"]; (at > 0) != (w.Location == "shed") || len(w.Routes) > 1 {
			t.Errorf("the worker at %q had sessions by %v", w.Location, w.Routes)
		}
	}
	checked, err := api.Check(ctx, []string{"ada.moss@fernhollow.example"})
	if err != nil || len(checked) != 1 || len(checked[0].Asked) == 0 || checked[0].Asked[0].Conversation == nil || checked[0].Asked[0].Conversation.Route != "direct at shed" {
		t.Errorf("a single check: %+v, %v", checked, err)
	}
	if out, err := testkit.Command(s.Env, "workers").CombinedOutput(); err != nil || !strings.Contains(string(out), "shed") {
		t.Errorf("varnet workers: %v, %s", err, out)
	}
	// While nobody is there, it waits; and goes on by itself.
	end()
	if run, err = api.StartRun(ctx, list.ID, contract.NewRun{}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second)
	end = begin()
	if run, err = api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil || run.Done != run.Addresses {
		t.Errorf("after it came back: %d of %d, %v", run.Done, run.Addresses, err)
	}
}
