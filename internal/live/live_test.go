package live

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"testing"
	"time"

	"varnet/internal/store"
)

// wire is a source whose changes a test sends.
type wire struct {
	changes chan store.Change
	cut     chan error
	ready   chan struct{}
}

func (w wire) Changes(ctx context.Context, ready func(), seen func(store.Change)) error {
	ready()
	w.ready <- struct{}{}
	for {
		select {
		case c := <-w.changes:
			seen(c)
		case err := <-w.cut:
			return err
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func running(t *testing.T) (*Hub, wire) {
	t.Helper()
	w := wire{make(chan store.Change), make(chan error), make(chan struct{})}
	h := New(w, slog.New(slog.DiscardHandler))
	go h.Run(t.Context())
	<-w.ready
	return h, w
}

// next waits for changes.
func next(t *testing.T, w *Watcher) []store.Change {
	t.Helper()
	select {
	case <-w.Changed():
		return w.Take()
	case <-time.After(5 * time.Second):
		t.Fatal("nothing was told")
		return nil
	}
}

// TestWatchersHearTheirWorkspace: what changes is told to those who watch its workspace, the
// same thing once, and to nobody else.
func TestWatchersHearTheirWorkspace(t *testing.T) {
	h, source := running(t)
	ours, theirs := h.Watch(1), h.Watch(2)
	defer theirs.Close()
	run := store.Change{Workspace: 1, Kind: "run", ID: 7}
	for range 3 {
		source.changes <- run
	}
	source.changes <- store.Change{Workspace: 1, Kind: "list", ID: 7}
	got := next(t, ours)
	for len(got) < 2 {
		got = append(got, next(t, ours)...)
	}
	if !slices.Equal(slices.Compact(got), []store.Change{run, {Workspace: 1, Kind: "list", ID: 7}}) {
		t.Errorf("told: %v", got)
	}
	if got := theirs.Take(); got != nil {
		t.Errorf("another workspace was told %v", got)
	}
	ours.Close()
	source.changes <- run
	source.changes <- run
	if got := ours.Take(); got != nil || len(h.watchers) != 1 {
		t.Errorf("told after its end: %v; %d workspaces", got, len(h.watchers))
	}
}

// TestMissed: a slow watcher, and one whose source was lost meanwhile, are told that
// everything may have changed.
func TestMissed(t *testing.T) {
	h, source := running(t)
	w := h.Watch(1)
	defer w.Close()
	for i := range int64(mostPending + 5) {
		source.changes <- store.Change{Workspace: 1, Kind: "run", ID: i}
	}
	source.changes <- store.Change{Workspace: 2}
	everything := []store.Change{{Workspace: 1, Kind: Everything}}
	if got := w.Take(); !slices.Equal(got, everything) {
		t.Errorf("a slow watcher was told %d changes", len(got))
	}
	<-w.Changed()
	source.cut <- errors.New("the line is cut")
	<-source.ready
	if got := next(t, w); !slices.Equal(got, everything) {
		t.Errorf("after a cut: %v", got)
	}
}

// TestQuiet: what changes in one workspace, or was missed, ends its quiet, and nothing else does.
func TestQuiet(t *testing.T) {
	h, source := running(t)
	w := h.Watch(1)
	defer w.Close()
	time.Sleep(30 * time.Millisecond)
	source.changes <- store.Change{Workspace: 1, Kind: "run", ID: 7}
	next(t, w)
	if ours, theirs := h.Quiet(1), h.Quiet(2); ours > theirs-30*time.Millisecond || theirs < 30*time.Millisecond {
		t.Errorf("quiet for %v, the other workspace for %v", ours, theirs)
	}
}
