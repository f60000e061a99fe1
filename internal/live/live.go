// Package live tells those who watch a workspace what changes in it, as it changes,
// whichever process changes it.
package live

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"varnet/internal/store"
)

// Source is where changes come from; the store is one.
type Source interface {
	Changes(ctx context.Context, ready func(), seen func(store.Change)) error
}

// Hub hands changes on to the watchers of their workspaces.
type Hub struct {
	source   Source
	log      *slog.Logger
	mu       sync.Mutex
	watchers map[int64]map[*Watcher]bool // by workspace
	// last is when something changed in a workspace last, and in all of them, or was missed.
	last map[int64]time.Time
	all  time.Time
}

// New returns a hub. It hands on what comes while Run goes on.
func New(source Source, log *slog.Logger) *Hub {
	return &Hub{source: source, log: log, watchers: map[int64]map[*Watcher]bool{}, last: map[int64]time.Time{}, all: time.Now()}
}

// connectEvery is how long a lost source is waited for before it is asked again.
const connectEvery = time.Second

// Run hands changes on until ctx ends. When it has missed some, every watcher is told that
// everything may have changed.
func (h *Hub) Run(ctx context.Context) {
	for ctx.Err() == nil {
		err := h.source.Changes(ctx, h.missed, h.tell)
		if ctx.Err() != nil {
			return
		}
		h.log.Warn("changes are not told until the database answers again", "err", err)
		select {
		case <-time.After(connectEvery):
		case <-ctx.Done():
		}
	}
}

func (h *Hub) tell(c store.Change) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if c.Workspace != 0 {
		h.last[c.Workspace] = time.Now()
		for w := range h.watchers[c.Workspace] {
			w.add(c)
		}
		return
	}
	h.all = time.Now()
	for workspace, watchers := range h.watchers {
		for w := range watchers {
			w.add(store.Change{Workspace: workspace, Kind: c.Kind, ID: c.ID})
		}
	}
}

// Everything is the kind of the change that stands for all of them.
const Everything = "everything"

func (h *Hub) missed() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all = time.Now()
	for workspace, watchers := range h.watchers {
		for w := range watchers {
			w.add(store.Change{Workspace: workspace, Kind: Everything})
		}
	}
}

// Quiet returns for how long nothing is known to have changed in a workspace.
func (h *Hub) Quiet(workspace int64) time.Duration {
	h.mu.Lock()
	defer h.mu.Unlock()
	last := h.all
	if l := h.last[workspace]; l.After(last) {
		last = l
	}
	return time.Since(last)
}

// Watch begins to collect the changes of a workspace; Close ends it.
func (h *Hub) Watch(workspace int64) *Watcher {
	w := &Watcher{hub: h, workspace: workspace, wake: make(chan struct{}, 1)}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.watchers[workspace] == nil {
		h.watchers[workspace] = map[*Watcher]bool{}
	}
	h.watchers[workspace][w] = true
	return w
}

// Watcher collects changes until they are taken, each once.
type Watcher struct {
	hub       *Hub
	workspace int64
	wake      chan struct{}
	mu        sync.Mutex
	pending   []store.Change
}

// mostPending bounds what a slow watcher has not taken; beyond it, it is told that
// everything may have changed.
const mostPending = 200

func (w *Watcher) add(c store.Change) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, p := range w.pending {
		if p == c || p.Kind == Everything {
			return
		}
	}
	if w.pending = append(w.pending, c); len(w.pending) > mostPending || c.Kind == Everything {
		w.pending = []store.Change{{Workspace: w.workspace, Kind: Everything}}
	}
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// Changed is ready when there is something to Take.
func (w *Watcher) Changed() <-chan struct{} { return w.wake }

// Take returns what has changed since it was called last, in order.
func (w *Watcher) Take() []store.Change {
	w.mu.Lock()
	defer w.mu.Unlock()
	taken := w.pending
	w.pending = nil
	return taken
}

// Close ends the watch.
func (w *Watcher) Close() {
	w.hub.mu.Lock()
	defer w.hub.mu.Unlock()
	if delete(w.hub.watchers[w.workspace], w); len(w.hub.watchers[w.workspace]) == 0 {
		delete(w.hub.watchers, w.workspace)
	}
}
