package work

import (
	"context"
	"errors"
	"io"
	"path"
	"strings"
	"time"

	"varnet/core/event"
	"varnet/internal/connect"
	"varnet/internal/contract"
	"varnet/internal/export"
	"varnet/internal/routine"
	"varnet/internal/store"
	"varnet/internal/writeback"
)

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
