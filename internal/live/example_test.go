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

// Everybody who watches a workspace hears of its changes, and of no other's. The first that
// is told is that everything may have changed before the source was ready.
func ExampleHub() {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	from := make(changes)
	hub := live.New(from, slog.Default())
	w := hub.Watch(1)
	defer w.Close()
	go hub.Run(ctx)
	told := func() {
		<-w.Changed()
		for _, c := range w.Take() {
			fmt.Println(c.Kind, c.ID)
		}
	}
	told()
	from <- store.Change{Workspace: 2, Kind: "run", ID: 9}
	from <- store.Change{Workspace: 1, Kind: "run", ID: 7}
	told()
	// Output:
	// everything 0
	// run 7
}
