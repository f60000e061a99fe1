package work

import (
	"context"
	"fmt"
	"slices"
	"time"

	"varnet/core/event"
	"varnet/internal/connect"
	"varnet/internal/store"
)

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
