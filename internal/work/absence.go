package work

import (
	"context"
	"sync"
	"time"

	"varnet/core/finding"
	"varnet/core/probe"
)

// absences remembers which workspaces know of mailboxes found absent so long ago
// that they may have been opened again since. Most know of none and need not be
// asked for every parcel.
type absences struct {
	mu   sync.Mutex
	know map[int64]rememberedAbsence
}

type rememberedAbsence struct {
	any bool
	at  time.Time
}

// absenceLife is for how long that is remembered.
const absenceLife = 2 * time.Second

// oldAbsences tells which mailboxes were found absent that long ago.
func (e *Engine) oldAbsences(ctx context.Context, workspace int64, mailboxes []string) (map[string]time.Time, error) {
	any, err := e.anyAbsent(ctx, workspace)
	if err != nil || !any {
		return nil, err
	}
	return e.Store.Absences(ctx, workspace, mailboxes)
}

// forget makes the next look at a workspace's absences a fresh one.
func (a *absences) forget(workspace int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.know, workspace)
}

func (e *Engine) anyAbsent(ctx context.Context, workspace int64) (bool, error) {
	c, now := &e.absences, time.Now()
	c.mu.Lock()
	known := c.know[workspace]
	c.mu.Unlock()
	if now.Sub(known.at) < absenceLife {
		return known.any, nil
	}
	any, err := e.Store.AnyAbsent(ctx, workspace, finding.RevivedFrom(now))
	if err != nil {
		return false, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.know[workspace] = rememberedAbsence{any, now}
	return any, nil
}

// remember tells the questions when their mailboxes were found absent.
func (l *loaded) remember(gone map[string]time.Time) {
	for _, d := range l.parcel.Domains {
		for i := range d.Questions {
			d.Questions[i].Absent = gone[d.Questions[i].Address.Mailbox()]
		}
	}
}

// absent lists the mailboxes that were found absent.
func absent(results []probe.Result) (mailboxes []string) {
	for _, r := range results {
		if r.Verdict.Cause == finding.MailboxAbsent {
			mailboxes = append(mailboxes, r.Address.Mailbox())
		}
	}
	return mailboxes
}
