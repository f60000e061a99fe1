package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/format"
	"varnet/internal/store"
)

// allRows takes out the rows of every decision.
const allRows = "all"

// TakeOutInput is a run and what of it is taken out.
type TakeOutInput struct {
	ByID
	contract.TakingOut
}

func (a *API) registerTakeOut(h huma.API) {
	huma.Register(h, operation("take-out", http.MethodGet, "/runs/{id}/take-out", "What the file would hold, before it is made"), a.takeOut)
	file := operation("file", http.MethodGet, "/runs/{id}/file", "The rows of one decision, or all, as they stood in the file or in another form; of a run that ended a broken download can be taken up again (Range)")
	file.Responses = fileResponse("text/csv")
	huma.Register(h, file, a.file)
}

// outgoing reads all that a file of a run is made of.
func (a *API) outgoing(ctx context.Context, id int64, in contract.TakingOut) (*shape, error) {
	if in.Every > 1 && in.Sample > 0 {
		return nil, huma.Error422UnprocessableEntity("A file is either a random sample or every so-manieth row; leave one out.")
	}
	run, l, err := a.runAndList(ctx, id)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	p := run.Policy
	if in.Policy != "" && in.Policy != p.Name {
		if p, err = a.namedPolicy(ctx, in.Policy, 0); err != nil {
			return nil, err
		}
	}
	j, err := a.judgeOf(ctx, run, l, p)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	s, err := a.shapeOf(ctx, j, in)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return s, nil
}

func (a *API) takeOut(ctx context.Context, in *struct {
	TakeOutInput
	First int `query:"first" minimum:"0" maximum:"50" doc:"How many of the first rows of the file to show."`
}) (*struct{ Body contract.TakeOut }, error) {
	s, err := a.outgoing(ctx, in.ID, in.TakingOut)
	if err != nil {
		return nil, err
	}
	t, err := a.tallyFiltered(ctx, s)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.TakeOut{Decision: policy.Decision(in.Decision), FileName: fileName(s), Sentence: saidBefore(s, t), Counts: t.Counts(),
		Columns: columnBodies(), Formulas: s.list.Formulas, Titles: []string{}, First: [][]string{}}
	out.Rows = chosenRows(s, t)
	for _, c := range s.titles() {
		out.Titles = append(out.Titles, c.Name)
	}
	if in.First > 0 {
		err = a.eachChosen(ctx, s, decided(s, t), func(r *store.OutRow, slot, _ int) error {
			if out.First = append(out.First, s.cells(r, slot)...); len(out.First) >= in.First {
				return errEnough
			}
			return nil
		})
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.TakeOut }{out}, nil
}

// tallyFiltered counts the rows that fit the filter, all of them without one.
func (a *API) tallyFiltered(ctx context.Context, s *shape) (policy.Tally, error) {
	if !s.in.Chooses() {
		p, err := a.store.Progress(ctx, s.judge.run.ID)
		if err != nil {
			return nil, err
		}
		t, err := a.tallyOf(ctx, s.judge, p.Verdicts)
		return t.Tally, err
	}
	t := policy.Tally{}
	err := a.store.EachRow(ctx, s.judge.run, s.list, s.with(), func(r *store.OutRow) error {
		if slot, rule := s.judge.row(r); s.filtered(r, slot) {
			t[s.judge.ruling(rule)]++
		}
		return nil
	})
	return t, err
}

// decided gives how many rows have the decision that is taken out.
func decided(s *shape, t policy.Tally) int64 {
	if s.in.Decision == allRows {
		return t.Total()
	}
	return t.Rows(policy.Decision(s.in.Decision))
}

// chosenRows gives how many rows the file will have.
func chosenRows(s *shape, t policy.Tally) int64 {
	n := decided(s, t)
	if s.in.Every > 1 {
		n = (n + int64(s.in.Every) - 1) / int64(s.in.Every)
	}
	if s.in.Sample > 0 {
		n = min(n, int64(s.in.Sample))
	}
	return n
}

// saidBefore says how many rows will be in the file and what stays out.
func saidBefore(s *shape, t policy.Tally) string {
	said := t.Sentence(policy.Decision(s.in.Decision))
	if s.in.Decision == allRows {
		said = fmt.Sprintf("All %s will be in the file.", say.Rows(t.Total()))
	}
	if words := s.in.Says(); words != "" {
		said = "Of the rows " + words + ": " + said
	}
	n := chosenRows(s, t)
	switch {
	case s.in.Sample > 0 && n < decided(s, t):
		said += fmt.Sprintf(" The file is a random sample of %s of them.", say.Number(n))
	case s.in.Every > 1:
		said += fmt.Sprintf(" The file holds one of each %d of them, %s.", s.in.Every, say.Rows(n))
	}
	if each := int64(s.in.RowsEach); each > 0 && n > each {
		said += fmt.Sprintf(" They come in %d files of at most %s.", (n+each-1)/each, say.Rows(each))
	}
	if s.in.Apart != "" {
		said += fmt.Sprintf(" There is one file for each %s, in a zip.", s.in.Apart)
	}
	return said
}

// fileName is the brought file's name with the decision in it.
func fileName(s *shape) string {
	base, ext := nameParts(s)
	if s.in.Apart != "" || s.in.RowsEach > 0 {
		ext = ".zip"
	}
	if s.in.Apart != "" {
		return base + "-by-" + s.in.Apart + ext
	}
	return base + "-" + s.in.Decision + ext
}

// nameParts are what the names of all files begin and end with.
func nameParts(s *shape) (base, ext string) {
	name := filepath.Base(s.list.FileName)
	if name == "." || name == "/" || name == "" {
		name = s.list.Name + ".csv"
	}
	ext = filepath.Ext(name)
	base = strings.TrimSuffix(name, ext)
	switch {
	case s.in.Format != string(format.AsBrought):
		ext, _ = format.Output(s.in.Format).Ending()
	case s.in.Form == formAddresses:
		ext = ".txt"
	case s.in.Form == formSuppression || s.list.Format != string(format.Text):
		ext = ".csv" // what it was has become that
	}
	if s.in.Form != formRows {
		base += "-" + s.in.Form
	}
	return base, ext
}

// file streams the rows as they are read; nothing is held in memory.
func (a *API) file(ctx context.Context, in *TakeOutInput) (*huma.StreamResponse, error) {
	s, err := a.outgoing(ctx, in.ID, in.TakingOut)
	if err != nil {
		return nil, err
	}
	chosen := int64(0)
	if s.in.Sample > 0 {
		t, err := a.tallyFiltered(ctx, s)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		chosen = decided(s, t)
	}
	d := download{name: fileName(s), write: func(out io.Writer) error { return a.writeFile(ctx, s, chosen, out) }}
	if _, d.kind = s.output().Ending(); strings.HasSuffix(d.name, ".zip") {
		d.kind = "application/zip"
	}
	// A file of a run that ended is the same whenever it is made, unless a rule
	// looks at the age of results.
	if j := s.judge; j.run.FinishedAt != nil && (j.byVerdict != nil || !hasAge(j.policy)) {
		d.tag = fingerprint(j.run.ID, j.run.FinishedAt, j.policy, j.hand, in.TakingOut)
	}
	return a.stream(d), nil
}

// errEnough ends reading before the last row.
var errEnough = errors.New("enough")

// writeFile writes the file: one table, or several in a zip.
func (a *API) writeFile(ctx context.Context, s *shape, chosen int64, out io.Writer) error {
	switch {
	case s.in.Apart != "":
		return a.writeApart(ctx, s, chosen, out)
	case s.in.RowsEach > 0:
		return a.writeSplit(ctx, s, chosen, out)
	}
	w, err := s.writer(out)
	if err != nil {
		return err
	}
	err = a.eachChosen(ctx, s, chosen, func(r *store.OutRow, slot, _ int) error { return w.write(r, slot) })
	return errors.Join(err, w.close())
}
