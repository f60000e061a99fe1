package api

import (
	"context"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/export"
)

// ExportInput is a run and what of it is exported.
type ExportInput struct {
	ByID
	contract.ExportChoice
}

func (a *API) registerExport(h huma.API) {
	huma.Register(h, operation("preview-export", http.MethodGet, "/runs/{id}/export", "What the file would hold, before it is made"), a.previewExport)
	file := operation("export-rows", http.MethodGet, "/runs/{id}/export/file", "Export rows as a file")
	file.Responses = fileResponse("text/csv")
	huma.Register(h, file, a.file)
}

// exportOf reads all that a file of a run is made of.
func (a *API) exportOf(ctx context.Context, id int64, in contract.ExportChoice) (*export.Export, error) {
	return a.exportIn(ctx, workspace(ctx).ID, id, in)
}

// exportIn is exportOf for a run of a workspace.
func (a *API) exportIn(ctx context.Context, workspace, id int64, in contract.ExportChoice) (*export.Export, error) {
	run, err := a.store.Run(ctx, workspace, id)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	l, err := a.store.List(ctx, workspace, run.ListID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	p := run.Policy
	if in.Policy != "" && in.Policy != p.Name {
		if p, err = a.namedPolicy(ctx, in.Policy, 0); err != nil {
			return nil, err
		}
	}
	db := a.store.Reading(ctx)
	d, err := decide.New(ctx, db, run, l, p)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	e, err := export.New(ctx, db, d, in)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return e, nil
}

func (a *API) previewExport(ctx context.Context, in *struct {
	ExportInput
	First int `query:"first" minimum:"0" maximum:"50" doc:"How many of the first rows of the file to show."`
}) (*struct{ Body contract.ExportPreview }, error) {
	e, err := a.exportOf(ctx, in.ID, in.ExportChoice)
	if err != nil {
		return nil, err
	}
	t, err := e.Tally(ctx, &a.summaries.Counted)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.ExportPreview{Decision: policy.Decision(in.Decision), Rows: e.Rows(t), FileName: e.FileName(), Sentence: e.Sentence(t), Counts: contract.Counts(t.Counts()),
		Columns: export.Columns(), Formulas: e.Formulas(), Titles: e.Titles()}
	if out.First, err = e.First(ctx, t, in.First); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.ExportPreview }{out}, nil
}

// file streams the rows as they are read; nothing is held in memory.
func (a *API) file(ctx context.Context, in *ExportInput) (*huma.StreamResponse, error) {
	e, err := a.exportOf(ctx, in.ID, in.ExportChoice)
	if err != nil {
		return nil, err
	}
	if err := a.store.EndGuide(ctx, workspace(ctx).ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.stream(download{name: e.FileName(), kind: e.Kind(), tag: e.Tag(), write: func(out io.Writer) error { return e.Write(ctx, &a.summaries.Counted, out) }}), nil
}
