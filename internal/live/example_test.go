package live_test

import (
	"context"
	"fmt"
	"log/slog"

	"varnet/internal/live"
	"varnet/internal/store"
)

// changes stands for the database.
type changes chan store.Change

func (c changes) Changes(ctx context.Context, ready func(), seen func(store.Change)) error {
	ready()
	for {
		select {
		case one := <-c:
			seen(one)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Everybody who watches a workspace hears of its changes, and of no other's.
func ExampleHub() {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	from := make(changes)
	hub := live.New(from, slog.Default())
	go hub.Run(ctx)
	w := hub.Watch(1)
	defer w.Close()
	from <- store.Change{Workspace: 2, Kind: "run", ID: 9}
	from <- store.Change{Workspace: 1, Kind: "run", ID: 7}
	for told := false; !told; {
		<-w.Changed()
		for _, c := range w.Take() {
			if told = c.Kind == "run"; told {
				fmt.Println(c.Kind, c.ID)
			}
		}
	}
	// Output:
	// run 7
}
