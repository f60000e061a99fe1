// Package export makes files of the rows of a run: which rows, in which form and format,
// with which result columns; as one table, or several in a zip. Rows are written as they
// are read; nothing is held in memory.
package export

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"varnet/core/catalogue"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/format"
	"varnet/internal/store"
)

// Source is where rows, and what is known beside them, are read; the store is one.
type Source interface {
	Frequent
	EachRow(ctx context.Context, run store.Run, list store.List, with store.OutWith, do func(*store.OutRow) error) error
	Exchangers(ctx context.Context, run int64) (map[int64][]string, error)
	Activity(ctx context.Context, l store.List) (*store.Activity, error)
	Progress(ctx context.Context, runs ...int64) (map[int64]store.Progress, error)
}

// allRows exports the rows of every decision.
const allRows = "all"

// Export is what of a run is exported, and how.
type Export struct {
	source  Source
	list    store.List
	options contract.ExportChoice
	decider *decide.Decider
	known   *catalogue.Catalogue
	hosts   map[int64][]string // by parcel and conversation
	columns []resultColumn
	// activity is what was seen of the addresses, where a column tells it.
	activity *store.Activity
	now      time.Time
	// several reports that cells of the list hold several addresses.
	several bool
}

// New returns an export of a run. Options that do not go together, and columns that there
// are not, are errors for the person who asked.
func New(ctx context.Context, s Source, d *decide.Decider, o contract.ExportChoice) (e *Export, err error) {
	if o.Every > 1 && o.Sample > 0 {
		return nil, &sheet.Error{Problem: "A file is either a random sample or every nth row; leave one out."}
	}
	e = &Export{source: s, list: d.List, options: o, decider: d, several: d.List.Several()}
	if e.columns, err = chooseColumns(o.Columns); err != nil {
		return nil, &sheet.Error{Problem: err.Error()}
	}
	if e.wants("suggestion") {
		if e.known, err = Suggester(ctx, s, d.Run.ListID); err != nil {
			return nil, err
		}
	}
	if slices.ContainsFunc(activityColumns, e.wants) {
		if e.activity, err = s.Activity(ctx, d.List); err != nil {
			return nil, err
		}
		e.now = time.Now()
	}
	if e.wants("host") {
		e.hosts, err = s.Exchangers(ctx, d.Run.ID)
	}
	return e, err
}

// Tally counts the rows that fit the filter, all of them without one.
func (e *Export) Tally(ctx context.Context, m *decide.Memory) (policy.Tally, error) {
	if !e.options.Chooses() {
		p, err := e.source.Progress(ctx, e.decider.Run.ID)
		if err != nil {
			return nil, err
		}
		t, err := m.Tally(ctx, e.decider, p[e.decider.Run.ID].Verdicts)
		return t.Tally, err
	}
	t := policy.Tally{}
	err := e.source.EachRow(ctx, e.decider.Run, e.list, e.with(), func(r *store.OutRow) error {
		if slot, rule := e.decider.Row(r); e.filtered(r, slot) {
			t[e.decider.Ruling(rule)]++
		}
		return nil
	})
	return t, err
}

// Formulas counts the rows of the list with a cell that a spreadsheet would run.
func (e *Export) Formulas() int64 { return e.list.Formulas }

// Titles are the names of the columns of the file.
func (e *Export) Titles() []string {
	out := []string{}
	for _, c := range e.titles() {
		out = append(out, c.Name)
	}
	return out
}

// First returns the cells of the first rows of the file, at most so many.
func (e *Export) First(ctx context.Context, t policy.Tally, most int) ([][]string, error) {
	out := [][]string{}
	if most == 0 {
		return out, nil
	}
	err := e.eachChosen(ctx, e.decided(t), func(r *store.OutRow, slot int, _ decide.Rule) error {
		if out = append(out, e.cells(r, slot)...); len(out) >= most {
			return store.ErrEnough
		}
		return nil
	})
	return out, err
}

// Write writes the file.
func (e *Export) Write(ctx context.Context, m *decide.Memory, out io.Writer) error {
	chosen := int64(0)
	if e.options.Sample > 0 {
		t, err := e.Tally(ctx, m)
		if err != nil {
			return err
		}
		chosen = e.decided(t)
	}
	return e.write(ctx, chosen, out)
}

// Kind is the media type of the file.
func (e *Export) Kind() string {
	if strings.HasSuffix(e.FileName(), ".zip") {
		return "application/zip"
	}
	_, kind := e.output().Ending()
	return kind
}

// Tag names the content of the file, so that a broken download can be taken up again; ""
// where the next file may be another. That of a run which ended is the same whenever it
// is made, unless a rule looks at the age of results.
func (e *Export) Tag() string {
	d := e.decider
	if d.Run.FinishedAt == nil || d.Changes() {
		return ""
	}
	return decide.Fingerprint(d.Run.ID, d.Run.FinishedAt, d.Policy, d.State(), e.options)
}

// decided returns how many rows have the decision that is exported.
func (e *Export) decided(t policy.Tally) int64 {
	if e.options.Decision == allRows {
		return t.Total()
	}
	return t.Rows(policy.Decision(e.options.Decision))
}

// Rows returns how many rows the file will have, of a tally of the rows that fit.
func (e *Export) Rows(t policy.Tally) int64 {
	n := e.decided(t)
	if e.options.Every > 1 {
		n = (n + int64(e.options.Every) - 1) / int64(e.options.Every)
	}
	if e.options.Sample > 0 {
		n = min(n, int64(e.options.Sample))
	}
	return n
}

// Sentence says how many rows will be in the file and what stays out.
func (e *Export) Sentence(t policy.Tally) string {
	said := t.Sentence(policy.Decision(e.options.Decision))
	if e.options.Decision == allRows {
		said = fmt.Sprintf("All %s will be in the file.", say.Rows(t.Total()))
	}
	if words := e.options.Says(); words != "" {
		said = "Of the rows " + words + ": " + said
	}
	n := e.Rows(t)
	switch {
	case e.options.Sample > 0 && n < e.decided(t):
		said += fmt.Sprintf(" The file is a random sample of %s of them.", say.Number(n))
	case e.options.Every > 1:
		said += fmt.Sprintf(" The file holds one in every %d of them, %s.", e.options.Every, say.Rows(n))
	}
	if each := int64(e.options.RowsEach); each > 0 && n > each {
		said += fmt.Sprintf(" They come in %d files of at most %s.", (n+each-1)/each, say.Rows(each))
	}
	if e.options.Apart != "" {
		said += fmt.Sprintf(" There is one file for each %s, in a zip.", e.options.Apart)
	}
	return said
}

// FileName is the imported file's name with the decision in it.
func (e *Export) FileName() string {
	base, ext := e.nameParts()
	if e.options.Apart != "" || e.options.RowsEach > 0 {
		ext = ".zip"
	}
	if e.options.Apart != "" {
		return base + "-by-" + e.options.Apart + ext
	}
	return base + "-" + e.options.Decision + ext
}

// nameParts are what the names of all files begin and end with.
func (e *Export) nameParts() (base, ext string) {
	name := filepath.Base(e.list.FileName)
	if name == "." || name == "/" || name == "" {
		name = e.list.Name + ".csv"
	}
	ext = filepath.Ext(name)
	base = strings.TrimSuffix(name, ext)
	switch {
	case e.options.Format != string(format.AsBrought):
		ext, _ = format.Output(e.options.Format).Ending()
	case e.options.Form == formAddresses:
		ext = ".txt"
	case e.options.Form == formSuppression || e.list.Format != string(format.Text):
		ext = ".csv" // what it was has become that
	}
	if e.options.Form != formRows {
		base += "-" + e.options.Form
	}
	return base, ext
}

// write writes the file: one table, or several in a zip.
func (e *Export) write(ctx context.Context, chosen int64, out io.Writer) error {
	switch {
	case e.options.Apart != "":
		return e.writeApart(ctx, chosen, out)
	case e.options.RowsEach > 0:
		return e.writeSplit(ctx, chosen, out)
	}
	w, err := e.writer(out)
	if err != nil {
		return err
	}
	err = e.eachChosen(ctx, chosen, func(r *store.OutRow, slot int, _ decide.Rule) error { return w.write(r, slot) })
	return errors.Join(err, w.close())
}
