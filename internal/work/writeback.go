package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/core/say"
	"varnet/internal/connect"
	"varnet/internal/store"
	"varnet/internal/writeback"
)

// WriteBackArgs names a write-back, which is written or undone.
type WriteBackArgs struct {
	WriteBack int64 `json:"writeBack"`
}

// Kind names the job.
func (WriteBackArgs) Kind() string { return "write-back" }

// InsertOpts makes it one job a write-back.
func (WriteBackArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueConnect, UniqueOpts: unique}
}

type writeBackWorker struct {
	river.WorkerDefaults[WriteBackArgs]
	engine *Engine
}

// Timeout leaves a job the time that the largest place takes.
func (w *writeBackWorker) Timeout(*river.Job[WriteBackArgs]) time.Duration { return connectTime }

// Work writes what a write-back is to write, batch by batch. What each contact had is in the
// journal before it is changed, so that a batch that broke off is written again and can be undone.
func (w *writeBackWorker) Work(ctx context.Context, job *river.Job[WriteBackArgs]) error {
	e := w.engine
	b, kept, err := e.Store.WriteBackAtWork(ctx, job.Args.WriteBack)
	if err != nil || b.EndedAt != nil {
		return notThere(err)
	}
	a := writing{engine: e, b: b, kept: kept, start: time.Now()}
	return e.atPlace(ctx, kept, b.BegunAt, a.work, a.fail)
}

// WriteBack begins a write-back.
func (e *Engine) WriteBack(ctx context.Context, b *store.WriteBack) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error { return e.writeBack(ctx, s, tx, b) })
}

func (e *Engine) writeBack(ctx context.Context, s *store.Store, tx pgx.Tx, b *store.WriteBack) error {
	b.State, b.Targets = store.WritePreparing, make([]string, len(b.Spec.Steps))
	if err := s.NewWriteBack(ctx, b); err != nil {
		return err
	}
	return e.insert(ctx, tx, WriteBackArgs{b.ID})
}

// Undo begins to undo a write-back that has ended; ErrNotFound where it has not, or was undone.
func (e *Engine) Undo(ctx context.Context, b store.WriteBack) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		from := b.State
		if from != store.WriteDone && from != store.WriteFailed {
			return store.ErrNotFound
		}
		b.State, b.EndedAt = store.WriteUndoing, nil
		if err := s.SetWriteBack(ctx, b, from); err != nil {
			return err
		}
		return e.insert(ctx, tx, WriteBackArgs{b.ID})
	})
}

// writing is a write-back at work.
type writing struct {
	engine *Engine
	b      store.WriteBack
	kept   store.Connection
	place  connect.Taker
	start  time.Time
}

func (a *writing) work(ctx context.Context) error {
	place, err := a.engine.Connections.Open(a.kept)
	if err != nil {
		return err
	}
	defer place.Close()
	if files, ok := place.(connect.FilePlace); ok {
		return a.files(ctx, files)
	}
	var ok bool
	if a.place, ok = place.(connect.Taker); !ok {
		return connect.Troublef("The connection “%s” takes nothing back.", a.kept.Name)
	}
	if a.b.State == store.WriteUndoing {
		return a.undo(ctx)
	}
	if a.b.State == store.WritePreparing {
		if err := a.prepare(ctx); err != nil {
			return err
		}
	}
	for step := range a.b.Spec.Steps {
		if err := a.step(ctx, step); err != nil {
			return err
		}
	}
	return a.done(ctx)
}

func (a *writing) order(step int) connect.Order {
	return writeback.Order(a.b.Spec.Steps[step], a.b.Collection, a.b.Targets[step])
}

// step writes what is open of a step.
func (a *writing) step(ctx context.Context, step int) error {
	o := a.order(step)
	for {
		items, err := a.engine.Store.OpenItems(ctx, a.b.ID, step, max(1, a.place.AtOnce(o)))
		if err != nil || len(items) == 0 {
			return err
		}
		if err := a.batch(ctx, o, items); err != nil {
			return err
		}
		if time.Since(a.start) > connectSlice || a.engine.closing.Load() {
			return errPause
		}
	}
}

// asItems are items of the journal as a place is given them.
func asItems(items []store.WriteItem) []connect.Item {
	out := make([]connect.Item, len(items))
	for i, it := range items {
		out[i] = connect.Item{Key: it.Key, Addresses: connect.InColumns(it.Addresses), Value: it.Value}
	}
	return out
}

// batch writes some items.
func (a *writing) batch(ctx context.Context, o connect.Order, items []store.WriteItem) error {
	e := a.engine
	states, err := a.place.Now(ctx, o, asItems(items))
	if err != nil {
		return err
	}
	var write []int
	versions := make([]string, len(items))
	for i := range items {
		if settled(o, &items[i], states[i]) {
			continue
		}
		versions[i] = states[i].Version
		write = append(write, i)
	}
	if err := e.Store.SetItems(ctx, a.b.ID, items); err != nil || len(write) == 0 {
		return err
	}
	given := asItems(items)
	some := make([]connect.Item, len(write))
	for n, i := range write {
		given[i].Version = versions[i]
		some[n] = given[i]
	}
	errs, err := a.place.Write(ctx, o, some)
	if err != nil {
		return err
	}
	for n, i := range write {
		items[i].State, items[i].Why = ended(errs[n], store.ItemDone)
	}
	return e.Store.SetItems(ctx, a.b.ID, items)
}

// settled compares a contact with what was imported, and notes in the item what it has now; it
// reports whether there is nothing to write.
func settled(o connect.Order, it *store.WriteItem, now connect.State) bool {
	begun := it.State == store.ItemBegun
	leaves := o.Act == connect.Collect && it.Value == ""
	switch {
	case leaves: // whoever is to go goes
	case !now.Found && begun && o.Act == connect.Remove:
		it.State = store.ItemDone
		return true
	case !now.Found:
		it.State, it.Why = store.ItemSkipped, "it is no longer there"
		return true
	case !connect.Same(it.Addresses, now.Addresses):
		it.State, it.Why = store.ItemSkipped, "its address was changed after the import"
		return true
	case now.Leave != "":
		it.State, it.Why = store.ItemSkipped, now.Leave
		return true
	}
	if !begun && !now.Unknown {
		had := now.Value
		if o.Act == connect.Collect && leaves {
			had = connect.Present
		}
		it.Had = &had
	}
	if o.Act != connect.Collect && !now.Unknown && now.Value == it.Value {
		it.State = store.ItemDone
		return true
	}
	it.State = store.ItemBegun
	return false
}

// ended is what became of an item, of the error that the place gave for it.
func ended(err error, good store.ItemState) (store.ItemState, string) {
	var skipped *connect.Skipped
	switch {
	case err == nil:
		return good, ""
	case errors.As(err, &skipped):
		return store.ItemSkipped, skipped.Why
	}
	return store.ItemFailed, err.Error()
}

// done ends the write-back, and tells of it.
func (a *writing) done(ctx context.Context) error {
	return a.end(ctx, store.WriteWriting, store.WriteDone, event.WriteBackDone)
}

func (a *writing) end(ctx context.Context, from, to string, code event.Code) error {
	e, now := a.engine, time.Now()
	counts, err := e.Store.ItemCounts(ctx, a.b.ID)
	if err != nil {
		return err
	}
	a.b.State, a.b.EndedAt, a.b.Says = to, &now, writeback.Outcome(counts, to == store.WriteUndone)
	return a.tell(ctx, from, code)
}

func (a *writing) tell(ctx context.Context, from string, code event.Code) error {
	e := a.engine
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.SetWriteBack(ctx, a.b, from); err != nil {
			return err
		}
		return e.Happened(ctx, s, tx, event.Event{Code: code, Workspace: a.b.WorkspaceID, Says: a.b.Says, Quiet: a.b.Quiet,
			Data: event.Data{WriteBackID: a.b.ID, RunID: a.b.RunID, ConnectionID: a.kept.ID, Connection: a.kept.Name, Words: a.b.Says}})
	})
}

// fail ends the write-back where it stands. What is written is in the journal, and can be undone.
func (a *writing) fail(ctx context.Context, why string) error {
	now := time.Now()
	counts, err := a.engine.Store.ItemCounts(ctx, a.b.ID)
	if err != nil {
		return err
	}
	from := a.b.State
	a.b.State, a.b.EndedAt, a.b.Says = store.WriteFailed, &now, why
	if len(counts) > 0 {
		a.b.Says += " " + writeback.Outcome(counts, false)
	}
	return notThere(a.tell(ctx, from, event.WriteBackFailed))
}

// WriteBackProgress says how far a write-back has come.
func WriteBackProgress(counts []store.ItemCount) string {
	var open, all int64
	for _, c := range counts {
		all += c.Items
		if c.State == store.ItemOpen || c.State == store.ItemBegun {
			open += c.Items
		}
	}
	return fmt.Sprintf("%s of %s made so far.", say.Number(all-open), say.Plural(all, "change", "changes"))
}
