package api

import (
	"cmp"
	"context"
	"errors"
	"io"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/activity"
	"varnet/internal/contract"
	"varnet/internal/intake"
)

func (a *API) registerActivity(h huma.API) {
	events := operation("import-activity", http.MethodPost, "/activity", "Import a file of events: what was seen of addresses, and when")
	events.RequestBody = fileBody
	huma.Register(h, events, a.importActivity)
	huma.Register(h, operation("get-list-activity", http.MethodGet, "/lists/{id}/activity", "When something was seen of the addresses of a list last"), a.listActivity)
}

// importActivity keeps the events of a file.
func (a *API) importActivity(ctx context.Context, in *struct {
	Streamed
	Written
	Address int    `query:"address" minimum:"0" maximum:"10000" doc:"The column with the addresses, from 1; detected unless given."`
	At      int    `query:"at" minimum:"0" maximum:"10000" doc:"The column with the days or times, from 1; detected unless given."`
	What    int    `query:"what" minimum:"0" maximum:"10000" doc:"The column that says what was seen, from 1; found by its name unless given."`
	Kind    string `query:"kind" maxLength:"60" doc:"What was seen where no column says so, such as opened or ordered."`
	Name    string `query:"name" maxLength:"200" doc:"The name of the file, which is told as the source."`
}) (*struct{ Body contract.ImportedActivity }, error) {
	out := &struct{ Body contract.ImportedActivity }{}
	err := a.whole(ctx, a.reading, in.body, func(file io.Reader) error {
		read, err := intake.Read(ctx, file, in.Sheet, in.overrule())
		if err != nil {
			return err
		}
		defer read.Close()
		out.Body, err = a.engine.Activity.Import(ctx, workspace(ctx).ID, read, activity.Columns{Address: in.Address, At: in.At, Kind: in.What}, strings.ToLower(strings.TrimSpace(in.Kind)), cmp.Or(strings.TrimSpace(in.Name), "a file of events"))
		return err
	})
	var wrong *activity.Wrong
	switch {
	case errors.As(err, &wrong):
		return nil, huma.Error422UnprocessableEntity("The file cannot be read: " + wrong.Why + ".")
	case err != nil:
		return nil, a.broken(ctx, err)
	}
	return out, nil
}

func (a *API) listActivity(ctx context.Context, in *ByID) (*struct{ Body contract.ListActivity }, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.engine.Activity.Look(ctx, l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.ListActivity }{out}, nil
}
