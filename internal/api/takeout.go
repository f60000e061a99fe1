package api

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
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

// allRows takes out the rows of every decision.
const allRows = "all"

// The forms in which rows are taken out.
const (
	formRows        = "rows"
	formResults     = "results"
	formAddresses   = "addresses"
	formSuppression = "suppression"
)

type takeOutInput struct {
	ByID
	Decision   string   `query:"decision" enum:"keep,hold,drop,all" default:"keep" doc:"Which rows to take out."`
	Form       string   `query:"form" enum:"rows,results,addresses,suppression" default:"rows" doc:"rows: as they were brought; results: with result columns right after the address column; addresses: nothing else; suppression: address and reason."`
	Format     string   `query:"format" enum:"brought,spreadsheet,xlsx,jsonl,txt" default:"brought" doc:"brought: byte for byte as the file was; spreadsheet: CSV that opens in columns; txt: one address a line."`
	Columns    []string `query:"columns" doc:"The result columns of the form results: finding, cause, title, meaning, advice, traits, odds, decision, reason, suggestion, checked; finding, cause and decision unless given."`
	Semicolons bool     `query:"semicolons" doc:"For spreadsheets of a locale with decimal commas."`
	Policy     string   `query:"policy" maxLength:"40" doc:"Decide by another policy than the run's; nobody is asked again."`
	Guard      bool     `query:"guard" doc:"Make your own cells harmless that a spreadsheet would run as formulas. Result columns always are."`
}

func (a *API) registerTakeOut(h huma.API) {
	huma.Register(h, operation("take-out", http.MethodGet, "/runs/{id}/take-out", "What the file would hold, before it is made"), a.takeOut)
	huma.Register(h, operation("policies", http.MethodGet, "/policies", "The policies, as sentences"),
		func(context.Context, *struct{}) (*struct{ Body []contract.Policy }, error) {
			out := []contract.Policy{}
			for _, p := range policy.Ready() {
				out = append(out, contract.Policy{Name: p.Name, For: p.For, Says: p.Says()})
			}
			return &struct{ Body []contract.Policy }{out}, nil
		})
	file := operation("file", http.MethodGet, "/runs/{id}/file", "The rows of one decision, or all, as they stood in the file or in another form")
	file.Responses = fileResponse("text/csv")
	huma.Register(h, file, a.file)
}

func (a *API) takeOut(ctx context.Context, in *takeOutInput) (*struct{ Body contract.TakeOut }, error) {
	r, l, err := a.runAndList(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if r.Policy, err = in.policyOf(r); err != nil {
		return nil, err
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
	out := contract.TakeOut{Decision: d, Rows: t.Rows(d), FileName: fileName(l, in), Sentence: t.Sentence(d), Counts: b.Decisions,
		Columns: columnBodies()}
	if in.Decision == allRows {
		out.Rows, out.Sentence = t.Total(), fmt.Sprintf("All %s will be in the file.", policy.Rows(t.Total()))
	}
	return &struct{ Body contract.TakeOut }{out}, nil
}

// policyOf names the policy that decides: the one asked for, or the run's.
func (in *takeOutInput) policyOf(r store.Run) (string, error) {
	if in.Policy == "" {
		return r.Policy, nil
	}
	if _, err := policy.Named(in.Policy); err != nil {
		return "", huma.Error422UnprocessableEntity(sentence(err.Error()))
	}
	return in.Policy, nil
}

// fileName is the brought file's name with the decision in it.
func fileName(l store.List, in *takeOutInput) string {
	name := filepath.Base(l.FileName)
	if name == "." || name == "/" || name == "" {
		name = l.Name + ".csv"
	}
	ext := filepath.Ext(name)
	base := strings.TrimSuffix(name, ext)
	switch {
	case in.Format != string(format.AsBrought):
		ext, _ = format.Output(in.Format).Ending()
	case in.Form == formAddresses:
		ext = ".txt"
	case in.Form == formSuppression || l.Format != string(format.Text):
		ext = ".csv" // what it was has become that
	}
	if in.Form != formRows {
		base += "-" + in.Form
	}
	return base + "-" + in.Decision + ext
}

// file streams the rows as they are read; nothing is held in memory.
func (a *API) file(ctx context.Context, in *takeOutInput) (*huma.StreamResponse, error) {
	run, l, err := a.runAndList(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if run.Policy, err = in.policyOf(run); err != nil {
		return nil, err
	}
	verdicts, p, err := a.verdictsOf(ctx, run)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	known, err := a.suggester(ctx, run)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	s := shape{list: l, in: in, verdicts: verdicts, rulings: rulings(p, verdicts), known: known}
	if err := s.chooseColumns(in.Columns); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	_, kind := format.Output(in.Format).Ending()
	return a.download(fileName(l, in), kind, func(out io.Writer) error {
		w, err := s.writer(out)
		if err != nil {
			return err
		}
		err = a.store.EachRow(ctx, run, func(r *store.OutRow) error {
			if in.Decision != allRows && string(s.ruling(r).Decision) != in.Decision {
				return nil
			}
			return w.write(r)
		})
		return cmp.Or(err, w.close())
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
		err := write(w)
		if err == nil {
			err = w.Flush()
		}
		if err != nil {
			a.log.Error("a file broke off while it was written", "file", name, "err", err)
			panic(http.ErrAbortHandler) // so that nobody takes a part for the whole
		}
	}}
}
