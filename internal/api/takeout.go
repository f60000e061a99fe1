package api

import (
	"bufio"
	"cmp"
	"context"
	"io"
	"mime"
	"net/http"
	"path/filepath"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/format"
	"varnet/internal/store"
)

type takeOutInput struct {
	ByID
	Decision string `query:"decision" enum:"keep,hold,drop" default:"keep" doc:"Which rows to take out."`
}

func (a *API) registerTakeOut(h huma.API) {
	huma.Register(h, operation("take-out", http.MethodGet, "/runs/{id}/take-out", "What the file would hold, before it is made"), a.takeOut)
	file := operation("file", http.MethodGet, "/runs/{id}/file", "The rows of one decision, as they stood in the file")
	file.Responses = fileResponse("text/csv")
	huma.Register(h, file, a.file)
}

func (a *API) takeOut(ctx context.Context, in *takeOutInput) (*struct{ Body contract.TakeOut }, error) {
	r, l, err := a.runAndList(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b, err := a.runBody(ctx, r, l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	d := policy.Decision(in.Decision)
	t := policy.Tally{}
	for _, c := range b.Decisions {
		t[policy.Ruling{Decision: c.Decision, Reason: c.Reason}] = c.Rows
	}
	return &struct{ Body contract.TakeOut }{contract.TakeOut{Decision: d, Rows: t.Rows(d), FileName: fileName(l, d),
		Sentence: t.Sentence(d), Counts: b.Decisions}}, nil
}

// fileName is the brought file's name with the decision in it.
func fileName(l store.List, d policy.Decision) string {
	name := filepath.Base(l.FileName)
	if name == "." || name == "/" || name == "" {
		name = l.Name + ".csv"
	}
	ext := filepath.Ext(name)
	base := strings.TrimSuffix(name, ext)
	if l.Format != string(format.Text) {
		ext = ".csv" // what it was has become that
	}
	return base + "-" + string(d) + ext
}

// file streams the rows as they are read; nothing is held in memory.
func (a *API) file(ctx context.Context, in *takeOutInput) (*huma.StreamResponse, error) {
	run, verdicts, p, err := a.runVerdicts(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	l, err := a.store.List(ctx, run.WorkspaceID, run.ListID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	wanted := policy.Decision(in.Decision)
	decided := map[int32]policy.Decision{0: policy.Open.Decision}
	for id, v := range verdicts {
		decided[id] = p.Decide(v).Decision
	}
	return a.download(fileName(l, wanted), "text/csv", func(out io.Writer) error {
		w := l.Dialect.Writer(out)
		_, _ = w.Write(l.Header)
		err := a.store.EachRow(ctx, run, func(r *store.OutRow) error {
			if decide(r, decided) != wanted {
				return nil
			}
			_, err := w.Write(r.Raw)
			return err
		})
		return cmp.Or(err, w.Close())
	}), nil
}

// fileResponse describes an operation that gives a file.
func fileResponse(kind string) map[string]*huma.Response {
	return map[string]*huma.Response{"200": {Description: "The file.",
		Content: map[string]*huma.MediaType{kind: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}
}

// download streams a file as it is written; nothing is held in memory.
func (a *API) download(name, kind string, write func(io.Writer) error) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(h huma.Context) {
		h.SetHeader("Content-Type", kind)
		h.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
		w := bufio.NewWriterSize(h.BodyWriter(), 1<<16)
		if err := cmp.Or(write(w), w.Flush()); err != nil {
			a.log.Error("a file broke off while it was written", "file", name, "err", err)
			panic(http.ErrAbortHandler) // so that nobody takes a part for the whole
		}
	}}
}

// decide rules on a row as tallyRows counts it.
func decide(r *store.OutRow, byVerdict map[int32]policy.Decision) policy.Decision {
	switch {
	case r.Address == 0:
		return policy.NoAddress.Decision
	case r.Address != r.Ordinal:
		return policy.Duplicate.Decision
	}
	if d, ok := byVerdict[r.Verdict]; ok {
		return d
	}
	return policy.Open.Decision
}
