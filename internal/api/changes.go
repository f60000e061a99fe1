package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"varnet/internal/contract"
	"varnet/internal/summary"
)

func (a *API) registerChanges(h huma.API) {
	sse.Register(h, operation("changes", http.MethodGet, "/events", "What changes in the workspace, told as it changes: read again what you show of it"),
		map[string]any{"change": contract.WorkspaceChange{}, "beat": contract.Beat{}}, a.changes)
}

// beatEvery is how often a stream without news says that it is alive.
const beatEvery = 15 * time.Second

// changes tells the changes of a workspace, the same thing at most once in a moment.
func (a *API) changes(ctx context.Context, _ *struct{}, send sse.Sender) {
	w := a.live.Watch(workspace(ctx).ID)
	defer w.Close()
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	if send.Data(contract.Beat{At: time.Now()}) != nil { // from now on nothing is missed
		return
	}
	for {
		select {
		case <-w.Changed():
			for _, c := range w.Take() {
				if send.Data(contract.WorkspaceChange{Kind: c.Kind, ID: c.ID}) != nil {
					return
				}
			}
		case now := <-beat.C:
			if send.Data(contract.Beat{At: now}) != nil {
				return
			}
		case <-ctx.Done():
			return
		case <-a.ending.Done():
			return
		}
		select {
		case <-time.After(summary.LookEvery):
		case <-ctx.Done():
			return
		}
	}
}
