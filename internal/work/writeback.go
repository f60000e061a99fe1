package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/core/say"
	"varnet/internal/connect"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/export"
	"varnet/internal/routine"
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

// prepare has the place make what is needed, and writes the items into the journal.
func (a *writing) prepare(ctx context.Context) error {
	e := a.engine
	for step := range a.b.Spec.Steps {
		target, err := a.place.Begin(ctx, a.order(step))
		if err != nil {
			return err
		}
		if target != a.b.Targets[step] {
			a.b.Targets[step] = target
			if err := e.Store.SetWriteBack(ctx, a.b, store.WritePreparing); err != nil {
				return err
			}
		}
	}
	members, err := a.members(ctx)
	if err != nil {
		return err
	}
	d, err := a.decider(ctx)
	if err != nil {
		return err
	}
	return e.Store.Bulk().InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := s.DropItems(ctx, a.b.ID); err != nil {
			return err
		}
		if err := a.items(ctx, s, d, members); err != nil {
			return err
		}
		if err := a.asPlanned(ctx, s); err != nil {
			return err
		}
		a.b.State = store.WriteWriting
		return s.SetWriteBack(ctx, a.b, store.WritePreparing)
	})
}

// decider decides on the rows of the run.
func (a *writing) decider(ctx context.Context) (*decide.Decider, error) {
	s := a.engine.Store
	run, err := s.Run(ctx, a.b.WorkspaceID, a.b.RunID)
	if err != nil {
		return nil, err
	}
	l, err := s.List(ctx, a.b.WorkspaceID, run.ListID)
	if err != nil {
		return nil, err
	}
	return decide.New(ctx, s.Bulk(), run, l, run.Policy)
}

// files writes the rows as files, each of which is there whole or not at all.
func (a *writing) files(ctx context.Context, place connect.FilePlace) error {
	e := a.engine
	d, err := a.decider(ctx)
	if err != nil {
		return err
	}
	a.b.State = store.WriteWriting
	if err := e.Store.SetWriteBack(ctx, a.b, store.WritePreparing); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	var says []string
	for step, s := range a.b.Spec.Steps {
		x, err := export.New(ctx, e.Store, d, contract.ExportChoice{Decision: writeback.Exported(s), Form: "rows", Format: "original"})
		if err != nil {
			return err
		}
		name := routine.Name(s.Name, x.FileName(), path.Ext(x.FileName()), e.Clock.Now())
		if a.b.Targets[step], err = place.Put(ctx, name, x.Kind(), func(out io.Writer) error { return x.Write(ctx, &e.Outbox.Summaries.Counted, out) }); err != nil {
			return err
		}
		says = append(says, "Written to "+a.b.Targets[step]+".")
	}
	now := time.Now()
	a.b.State, a.b.EndedAt, a.b.Says = store.WriteDone, &now, strings.Join(says, " ")
	return a.tell(ctx, store.WriteWriting, event.WriteBackDone)
}

// asPlanned holds the items against what a person has seen before it began.
func (a *writing) asPlanned(ctx context.Context, s *store.Store) error {
	counts, err := s.ItemCounts(ctx, a.b.ID)
	if err != nil {
		return err
	}
	by := map[int]int64{}
	for _, c := range counts {
		by[c.Step] += c.Items
	}
	for step, seen := range a.b.Planned {
		if !a.b.Spec.Steps[step].Refresh && by[step] != seen {
			return connect.Troublef("The decisions have changed since the draft was seen: step %d would be for %s instead of %s. Nothing was written. Draft it again.",
				step+1, say.Plural(by[step], "contact", "contacts"), say.Number(seen))
		}
	}
	return nil
}

// group is who is in a collection that is brought up to date.
type group struct {
	all  []connect.Item
	in   map[string]int // by key, or by address
	want []bool
}

func (g *group) find(key string, addresses []string) (int, bool) {
	if i, ok := g.in["k "+key]; ok {
		return i, true
	}
	for _, a := range addresses {
		if i, ok := g.in["a "+strings.ToLower(a)]; ok && a != "" {
			return i, true
		}
	}
	return 0, false
}

// members are who is in the collections that are brought up to date, by step.
func (a *writing) members(ctx context.Context) (map[int]*group, error) {
	out := map[int]*group{}
	for step, s := range a.b.Spec.Steps {
		if !s.Refresh || s.Act != string(connect.Collect) {
			continue
		}
		all, err := a.place.Members(ctx, a.order(step))
		if err != nil {
			return nil, err
		}
		g := &group{all: all, in: map[string]int{}, want: make([]bool, len(all))}
		for i, it := range all {
			if it.Key != "" {
				g.in["k "+it.Key] = i
			} else if len(it.Addresses) > 0 {
				g.in["a "+strings.ToLower(it.Addresses[0])] = i
			}
		}
		out[step] = g
	}
	return out, nil
}

// items writes the items into the journal. Of a collection that is brought up to date they are
// those who come in and those who go.
func (a *writing) items(ctx context.Context, s *store.Store, d *decide.Decider, members map[int]*group) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	found, failed := make(chan store.WriteItem, 1000), make(chan error, 1)
	go func() {
		defer close(found)
		send := func(i store.WriteItem) error {
			select {
			case found <- i:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		failed <- a.each(ctx, d, members, send)
	}()
	_, err := s.AddItems(ctx, a.b.ID, func() (*store.WriteItem, error) {
		i, more := <-found
		if !more {
			return nil, <-failed
		}
		return &i, nil
	})
	return err
}

func (a *writing) each(ctx context.Context, d *decide.Decider, members map[int]*group, send func(store.WriteItem) error) error {
	last := 0
	err := writeback.Each(ctx, a.engine.Store.Bulk(), d, a.b.Spec, func(i store.WriteItem) error {
		last = max(last, i.Number)
		if g := members[i.Step]; g != nil {
			if at, in := g.find(i.Key, i.Addresses); in {
				g.want[at] = true
				return nil
			}
		}
		return send(i)
	})
	if err != nil {
		return err
	}
	for step, g := range members {
		for n, it := range g.all {
			if g.want[n] {
				continue
			}
			addresses := it.Addresses
			if addresses == nil {
				addresses = []string{}
			}
			last++
			if err := send(store.WriteItem{Step: step, Number: last, Key: it.Key, Addresses: addresses}); err != nil {
				return err
			}
		}
	}
	return nil
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

// undo takes back what was written, the last step first.
func (a *writing) undo(ctx context.Context) error {
	for step, s := range slices.Backward(a.b.Spec.Steps) {
		if s.Act == string(connect.Collect) && !s.Refresh {
			if err := a.discard(ctx, step); err != nil {
				return err
			}
			continue
		}
		for {
			o := a.order(step)
			items, err := a.engine.Store.DoneItems(ctx, a.b.ID, step, max(1, a.place.AtOnce(o)))
			if err != nil {
				return err
			}
			if len(items) == 0 {
				break
			}
			if err := a.takeBack(ctx, o, items); err != nil {
				return err
			}
			if time.Since(a.start) > connectSlice || a.engine.closing.Load() {
				return errPause
			}
		}
	}
	return a.end(ctx, store.WriteUndoing, store.WriteUndone, event.WriteBackDone)
}

// discard deletes the collection that was made.
func (a *writing) discard(ctx context.Context, step int) error {
	if a.b.Targets[step] == "" {
		return nil
	}
	if err := a.place.Discard(ctx, a.order(step)); err != nil {
		return err
	}
	return a.engine.Store.UndoStep(ctx, a.b.ID, step)
}

// takeBack gives contacts what they had, where they still have what was written.
func (a *writing) takeBack(ctx context.Context, o connect.Order, items []store.WriteItem) error {
	states, err := a.place.Now(ctx, o, asItems(items))
	if err != nil {
		return err
	}
	given := asItems(items)
	var write []int
	var some []connect.Item
	for i := range items {
		it := &items[i]
		if it.State, it.Why = taken(o, *it, states[i]); it.State == store.ItemDone {
			given[i].Value, given[i].Version = *it.Had, states[i].Version
			write, some = append(write, i), append(some, given[i])
		}
	}
	if len(some) > 0 {
		errs, err := a.place.Write(ctx, o, some)
		if err != nil {
			return err
		}
		for n, i := range write {
			if items[i].State, items[i].Why = ended(errs[n], store.ItemUndone); items[i].State != store.ItemUndone {
				items[i].State = store.ItemLeft
			}
		}
	}
	return a.engine.Store.SetItems(ctx, a.b.ID, items)
}

// taken reports what becomes of an item that is undone: done stands for one that is written.
func taken(o connect.Order, it store.WriteItem, now connect.State) (store.ItemState, string) {
	switch {
	case it.Had == nil:
		return store.ItemLeft, "what it had before is not known"
	case *it.Had == it.Value:
		return store.ItemUndone, "" // it had it before
	case o.Act == connect.Remove, o.Act == connect.Collect:
		return store.ItemDone, ""
	case !now.Found:
		return store.ItemLeft, "it is no longer there"
	case now.Value != it.Value && !now.Unknown:
		return store.ItemLeft, fmt.Sprintf("somebody has changed it since, to “%s”", now.Value)
	}
	return store.ItemDone, ""
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
