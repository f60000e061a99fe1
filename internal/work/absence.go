package work

import (
	"context"
	"sync"
	"time"

	"varnet/core/finding"
)

// absences remembers since when workspaces know of mailboxes found absent. Most
// know of none so old that they may have been opened again since, and need not
// be asked for every parcel.
type absences struct {
	mu    sync.Mutex
	since map[int64]time.Time
}

// oldAbsences tells which mailboxes were found absent that long ago.
func (e *Engine) oldAbsences(ctx context.Context, workspace int64, mailboxes []string) (map[string]time.Time, error) {
	since, err := e.absentSince(ctx, workspace)
	if err != nil || !since.Before(finding.RevivedFrom(time.Now())) {
		return nil, err
	}
	return e.Store.Absences(ctx, workspace, mailboxes)
}

// forget makes the next look at a workspace's absences a fresh one.
func (a *absences) forget(workspace int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.since, workspace)
}

// absentSince is when the first of a workspace's mailboxes was found absent.
// Those found later are younger, so it is looked up once.
func (e *Engine) absentSince(ctx context.Context, workspace int64) (time.Time, error) {
	c := &e.absences
	c.mu.Lock()
	since, known := c.since[workspace]
	c.mu.Unlock()
	if known {
		return since, nil
	}
	since, err := e.Store.AbsentSince(ctx, workspace)
	if err != nil {
		return since, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.since[workspace] = since
	return since, nil
}

// remember tells the questions when their mailboxes were found absent.
func (l *loaded) remember(gone map[string]time.Time) {
	for _, d := range l.parcel.Domains {
		for i := range d.Questions {
			d.Questions[i].Absent = gone[d.Questions[i].Address.Mailbox()]
		}
	}
}
