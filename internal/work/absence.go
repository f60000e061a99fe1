package work

import (
	"context"
	"sync"
	"time"

	"varnet/core/finding"
)

// absences remembers which workspaces know of mailboxes found absent so long ago that they may have
// been opened again since. Most know of none, and need not be asked for every parcel.
type absences struct {
	mu  sync.Mutex
	old map[int64]bool
}

// oldAbsences tells which mailboxes were found absent that long ago.
func (e *Engine) oldAbsences(ctx context.Context, workspace int64, mailboxes []string) (map[string]time.Time, error) {
	if old, err := e.hasOldAbsences(ctx, workspace); err != nil || !old {
		return nil, err
	}
	return e.Store.Absences(ctx, workspace, mailboxes)
}

// forget makes the next look at a workspace's absences a fresh one. Each run begins with one.
func (a *absences) forget(workspace int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.old, workspace)
}

func (e *Engine) hasOldAbsences(ctx context.Context, workspace int64) (bool, error) {
	c := &e.absences
	c.mu.Lock()
	old, known := c.old[workspace]
	c.mu.Unlock()
	if known {
		return old, nil
	}
	old, err := e.Store.HasAbsencesBefore(ctx, workspace, finding.RevivedFrom(time.Now()))
	if err != nil {
		return false, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.old[workspace] = old
	return old, nil
}

// remember tells the questions when their mailboxes were found absent.
func (l *loaded) remember(gone map[string]time.Time) {
	for _, d := range l.parcel.Domains {
		for i := range d.Questions {
			d.Questions[i].Absent = gone[d.Questions[i].Address.Mailbox()]
		}
	}
}
