package api

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"varnet/internal/contract"
	"varnet/internal/summary"
)

func (a *API) registerChanges(h huma.API) {
	sse.Register(h, operation("watch-workspace", http.MethodGet, "/events", "Changes in the workspace, as they happen"),
		map[string]any{"change": contract.WorkspaceChange{}, "beat": contract.Beat{}}, a.changes)
}

// nameEvents gives the events of streams names, so that generated clients have a type for
// each, told apart by the event's name.
func nameEvents(doc *huma.OpenAPI) {
	const schemas = "#/components/schemas/"
	for _, item := range doc.Paths {
		for _, op := range operationsOf(item) {
			stream := op.Responses["200"]
			if stream == nil || stream.Content["text/event-stream"] == nil {
				continue
			}
			union := stream.Content["text/event-stream"].Schema.Items
			union.Discriminator = &huma.Discriminator{PropertyName: "event", Mapping: map[string]string{}}
			for _, event := range union.Extensions["oneOf"].([]*huma.Schema) {
				name := event.Properties["event"].Extensions["const"].(string)
				schema := strings.ToUpper(name[:1]) + name[1:] + "Event"
				doc.Components.Schemas.Map()[schema] = event
				union.OneOf = append(union.OneOf, &huma.Schema{Ref: schemas + schema})
				union.Discriminator.Mapping[name] = schemas + schema
			}
			delete(union.Extensions, "oneOf")
		}
	}
}

// beatEvery is how often a stream without news says that it is alive.
const beatEvery = 15 * time.Second

// stillIn reports whether whoever watches may still do so: a stream ends with the session or
// key that it was opened with, and when that works in another workspace.
func (a *API) stillIn(ctx context.Context) bool {
	c := callerOf(ctx)
	in, err := a.store.StillIn(ctx, c.WorkspaceID, c.KeyID, c.Session.ID)
	return err != nil || in // a database that does not answer is not a reason to go
}

// changes tells the changes of a workspace, the same thing at most once in a moment.
func (a *API) changes(ctx context.Context, _ *struct{}, send sse.Sender) {
	w := a.live.Watch(workspace(ctx).ID)
	defer w.Close()
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	if send.Data(contract.Beat{At: time.Now(), QuietMs: a.live.Quiet(workspace(ctx).ID).Milliseconds()}) != nil { // from now on nothing is missed
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
			if !a.stillIn(ctx) || send.Data(contract.Beat{At: now}) != nil {
				return
			}
		case <-ctx.Done():
			return
		case <-a.ending.Done():
			return
		}
		if !rested(ctx) {
			return
		}
	}
}

// rested waits for the moment in which a stream tells nothing more; it reports whether somebody still
// watches.
func rested(ctx context.Context) bool {
	select {
	case <-time.After(summary.LookEvery):
		return true
	case <-ctx.Done():
		return false
	}
}
