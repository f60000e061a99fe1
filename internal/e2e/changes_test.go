package e2e

import (
	"context"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"varnet/core/policy"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// heard collects the changes of a workspace.
type heard struct {
	mu  sync.Mutex
	all []contract.WorkspaceChange
}

func (h *heard) add(c contract.WorkspaceChange) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all = append(h.all, c)
}

// since waits until all changes wanted were told after the first n, and returns how many there are.
func (h *heard) since(t *testing.T, n int, want ...contract.WorkspaceChange) int {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		h.mu.Lock()
		all := slices.Clone(h.all)
		h.mu.Unlock()
		missing := slices.DeleteFunc(slices.Clone(want), func(c contract.WorkspaceChange) bool { return slices.Contains(all[n:], c) })
		if len(missing) == 0 {
			return len(all)
		}
		if time.Now().After(end) {
			t.Fatalf("not told: %v of %v; told were %v", missing, want, all[n:])
		}
	}
}

func watch(t *testing.T, s *testkit.Service, key string) *heard {
	t.Helper()
	h, ready := &heard{}, make(chan struct{})
	ctx, stop := context.WithCancel(t.Context())
	t.Cleanup(stop)
	go func() { _ = client.New(s.URL, key).Watch(ctx, func() { close(ready) }, h.add) }()
	select {
	case <-ready:
	case <-time.After(10 * time.Second):
		t.Fatal("the stream does not begin")
	}
	return h
}

// TestChangesAreTold: whoever watches a workspace is told of lists and runs that change, by
// whatever process, and of no other workspace's.
func TestChangesAreTold(t *testing.T) {
	t.Parallel()
	i, dsn := testkit.World(t, "fernhollow"), testkit.Database(t)
	settings := testkit.Settings(dsn, i)
	s := testkit.Serve(t, settings)
	other, err := testkit.Command(settings, "key", "new", "-workspace", "the neighbours").Output()
	if err != nil {
		t.Fatal(err)
	}
	ours, theirs := watch(t, s, s.Key), watch(t, s, strings.TrimSpace(string(other)))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	l, err := api.Import(ctx, client.File{Name: "members.csv", Body: strings.NewReader("e-mail\nada.moss@fernhollow.example\nnobody.atall@fernhollow.example\n")})
	if err != nil {
		t.Fatal(err)
	}
	list := contract.WorkspaceChange{Kind: "list", ID: l.ID}
	n := ours.since(t, 0, list)
	r, err := api.StartRun(ctx, l.ID, contract.NewRun{})
	if err != nil {
		t.Fatal(err)
	}
	run := contract.WorkspaceChange{Kind: "run", ID: r.ID}
	if _, err := api.Wait(ctx, r.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	ours.since(t, n, run)
	time.Sleep(time.Second) // what is still on its way
	ours.mu.Lock()
	n = len(ours.all)
	ours.mu.Unlock()
	name := "Members"
	for _, change := range []func() error{
		func() error { _, err := api.ChangeList(ctx, l.ID, contract.ListChange{Name: &name}); return err },
		func() error {
			_, err := api.Override(ctx, l.ID, contract.Override{Mailboxes: []string{"ada.moss@fernhollow.example"}, Decision: policy.Drop})
			return err
		},
		func() error {
			_, err := api.Override(ctx, l.ID, contract.Override{Mailboxes: []string{"ada.moss@fernhollow.example"}, Decision: "policy"})
			return err
		},
		func() error { _, err := api.Estimate(ctx, l.ID); return err },
		func() error { return api.DeleteList(ctx, l.ID) },
	} {
		if err := change(); err != nil {
			t.Fatal(err)
		}
		n = ours.since(t, n, list)
	}
	ours.since(t, 0, run)
	if theirs.mu.Lock(); len(theirs.all) > 0 {
		t.Errorf("the neighbours were told %v", theirs.all)
	}
	theirs.mu.Unlock()
}
