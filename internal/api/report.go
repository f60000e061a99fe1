package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

func (a *API) registerReport(h huma.API) {
	op := operation("get-report", http.MethodGet, "/runs/{id}/report", "The one-page report of a run")
	op.Responses = fileResponse("application/pdf")
	huma.Register(h, op, a.report)
}

func (a *API) report(ctx context.Context, in *struct {
	ByID
	Format string `query:"format" enum:"pdf,html" default:"pdf" doc:"A PDF page, or an HTML page that needs nothing else."`
	Zone   string `query:"zone" default:"UTC" maxLength:"60" doc:"The time zone in which times are shown, such as Europe/Berlin."`
}) (*huma.StreamResponse, error) {
	zone, err := time.LoadLocation(in.Zone)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("The time zone %q is not known; name one such as Europe/Berlin.", in.Zone))
	}
	run, l, err := a.runAndList(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	r, err := a.summaries.Report(ctx, run, l, zone)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	d := download{name: fmt.Sprintf("%s-report-%d.%s", strings.ReplaceAll(l.Name, "/", "-"), run.ID, in.Format), kind: "application/pdf", write: r.PDF}
	if in.Format == "html" {
		d.kind, d.write = "text/html; charset=utf-8", r.HTML
	}
	return a.stream(d), nil
}
