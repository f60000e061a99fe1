package workshop

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"varnet/core/catalogue"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/core/workshop"
	"varnet/internal/format"
	"varnet/internal/intake"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

// Order is what is to be made.
type Order struct {
	Workspace int64
	List      store.List // the one it begins with
	Recipe    workshop.Recipe
	Split     *workshop.Splitting // nil: one list
	Name      string
	// Earlier is the list that this one stands for from now on; nil: none.
	Earlier *store.List
	// Quiet: whoever has it made tells of it.
	Quiet bool
	// Progress is told how many rows were read; an error of it ends the work.
	Progress func(rows int64) error
}

// Wrong is why nothing can be made: something for the person who asked.
type Wrong struct{ Why string }

func (w *Wrong) Error() string { return w.Why }

func wrong(err error) error { return &Wrong{say.Sentence(err.Error())} }

// progressEvery is after how many rows progress is told.
const progressEvery = 20_000

// Making is a recipe on its lists, made ready. Close gives back what it holds.
type Making struct {
	workshop.Made

	recipe workshop.Recipe
	split  *workshop.Splitting
	env    workshop.Env
	first  workshop.Table
	tables map[string]workshop.Table // the others, by how the recipe names them
	tick   func() error              // is called for each row that is read
	read   int64
	seen   pack.WorkshopReport // rows of what is made, as they were read last
	parts  func() (*workshop.Divided, error)
}

// begin makes a recipe ready. open opens a list by how the recipe names it; rows are to be counted
// by tick as they are read.
func begin(m *Making, open func(name string) (workshop.Table, error)) error {
	m.tables = map[string]workshop.Table{}
	m.env.Open = func(name string) (workshop.Table, error) {
		t, err := open(name)
		if err == nil {
			m.tables[name] = t
		}
		return t, err
	}
	var err error
	if m.Made, err = m.recipe.Make(m.first, m.env); err != nil {
		return wrong(err)
	}
	m.Table = m.watched(m.Table)
	m.parts = sync.OnceValues(func() (*workshop.Divided, error) {
		d, err := workshop.Split(m.Table, *m.split, m.env)
		if err != nil {
			err = wrong(err)
		}
		return d, err
	})
	return nil
}

// watched has the rows of what is made seen as they are read, so that nothing is read once more to
// say what it is.
func (m *Making) watched(t workshop.Table) workshop.Table {
	from := t.Rows
	t.Rows = func() iter.Seq2[workshop.Row, error] {
		return func(yield func(workshop.Row, error) bool) {
			m.seen = pack.WorkshopReport{}
			for row, err := range from() {
				if err == nil {
					if m.seen.Rows++; m.seen.Rows <= shownRows {
						m.seen.First = append(m.seen.First, slices.Clone(row.Cells()))
					}
				}
				if !yield(row, err) {
					return
				}
			}
		}
	}
	return t
}

// Close gives back what the making holds.
func (m *Making) Close() error { return m.env.Spill.Close() }

// Read is how many rows were read so far.
func (m *Making) Read() int64 { return m.read }

// facts are those that what is made looks at.
func facts(r workshop.Recipe, s *workshop.Splitting) []workshop.Fact {
	out := r.Facts()
	if s != nil && s.Fact != "" {
		out = append(out, s.Fact)
	}
	return out
}

// Begin opens the lists of an order and makes its steps ready.
func (w *Workshop) Begin(ctx context.Context, o Order) (*ListMaking, error) {
	own, err := w.Catalogue(ctx, o.Workspace)
	if err != nil {
		return nil, err
	}
	m := &ListMaking{Order: o, OfRows: o.List.Rows, workshop: w}
	m.recipe, m.split = o.Recipe, o.Split
	m.env = workshop.Env{Spill: workshop.NewSpill(""), Grammar: w.Grammar, Catalogue: own, Now: w.Now(), Country: w.Country,
		Terms: func(name string) ([]string, error) {
			terms, err := w.Store.Terms(ctx, o.Workspace, name)
			if errors.Is(err, store.ErrNotFound) {
				err = fmt.Errorf("there are no saved terms called %q", name)
			}
			return terms, err
		}}
	m.tick = func() error {
		if m.read++; m.read%progressEvery == 0 && o.Progress != nil {
			return o.Progress(m.read)
		}
		return nil
	}
	known := slices.ContainsFunc(facts(o.Recipe, o.Split), func(f workshop.Fact) bool { return f != workshop.FactDomain })
	m.first = w.table(ctx, o.List, known, m.tick)
	err = begin(&m.Making, func(name string) (workshop.Table, error) {
		l, err := w.Named(ctx, o.Workspace, name)
		m.OfRows += l.Rows
		return w.table(ctx, l, known, m.tick), err
	})
	if err != nil {
		return nil, errors.Join(err, m.Close())
	}
	return m, nil
}

// ListMaking makes lists of lists.
type ListMaking struct {
	Making
	Order
	// OfRows is how many rows its lists have together.
	OfRows int64

	workshop *Workshop
}

// Files is what is to be made of files, without any service.
type Files struct {
	First     string
	Recipe    workshop.Recipe // its lists are files, too
	Split     *workshop.Splitting
	Catalogue *catalogue.Catalogue
	Now       func() time.Time
	Country   func(ip string) string // nil: nobody can tell
}

// BeginFiles opens files and makes the steps ready.
func BeginFiles(ctx context.Context, o Files) (*Making, error) {
	if slices.ContainsFunc(facts(o.Recipe, o.Split), workshop.Fact.Verified) {
		return nil, &Wrong{"Nothing is known of the addresses of a file but their domains and traits; import it, and take the list."}
	}
	m := &Making{recipe: o.Recipe, split: o.Split, env: workshop.Env{Spill: workshop.NewSpill(""), Catalogue: o.Catalogue, Now: o.Now(), Country: o.Country}}
	var err error
	if m.first, err = File(ctx, o.First, "", sheet.Overrule{}); err == nil {
		err = begin(m, func(name string) (workshop.Table, error) { return File(ctx, name, "", sheet.Overrule{}) })
	}
	if err != nil {
		return nil, errors.Join(err, m.Close())
	}
	return m, nil
}

// called returns what a list of the recipe is called.
func (m *Making) called(with string) string {
	if t, ok := m.tables[with]; ok {
		return t.Name
	}
	return with
}

// shownRows are how many rows a report shows.
const shownRows = 10

// WriteParts writes the parts of a split as text, all in one reading; open opens what a part is
// written to.
func (m *Making) WriteParts(open func(workshop.Part) (io.Writer, error)) error {
	d, err := m.parts()
	if err != nil {
		return err
	}
	files, buffers := make([]*text, len(d.Parts)), make([]*bufio.Writer, len(d.Parts))
	for i, p := range d.Parts {
		w, err := open(p)
		if err != nil {
			return err
		}
		buffers[i] = bufio.NewWriterSize(w, partBuffer)
		if files[i], err = newText(m.Table, buffers[i]); err != nil {
			return err
		}
	}
	if err := d.Each(func(part int, r workshop.Row) error { return files[part].write(r) }); err != nil {
		return err
	}
	for i, f := range files {
		if err := errors.Join(f.Close(), buffers[i].Flush()); err != nil {
			return err
		}
	}
	return nil
}

// partBuffer is how much of each part is held in memory.
const partBuffer = 32 << 10

// Look reads what is made and says what it is, without making it.
func (m *Making) Look() (pack.WorkshopReport, error) {
	for _, err := range m.Rows() {
		if err != nil {
			return pack.WorkshopReport{}, err
		}
	}
	return m.Report()
}

// Report says what was made, once its rows were read.
func (m *Making) Report() (r pack.WorkshopReport, err error) {
	r = m.seen
	if m.split != nil {
		d, err := m.parts()
		if err != nil {
			return r, err
		}
		for _, p := range d.Parts {
			r.Parts = append(r.Parts, pack.WorkshopPartDone{Value: p.Value, Rows: p.Rows})
		}
	}
	m.tell(&r)
	return r, nil
}

// tell fills in what came of each step.
func (m *Making) tell(r *pack.WorkshopReport) {
	before := m.Made.First.Rows
	for i, s := range m.recipe {
		d := pack.WorkshopStepDone{Says: s.Says(m.called), Before: before, Rows: m.Steps[i].Rows}
		for _, o := range m.Others[i] {
			if d.Others = append(d.Others, o.Rows); joins(s) {
				d.Before += o.Rows
			}
		}
		r.Steps, before = append(r.Steps, d), d.Rows
	}
	r.Columns, r.From = m.Columns, m.from()
}

// from are the lists that each column of what is made comes from, as far as its name tells; none
// where the columns of several were not put together.
func (m *Making) from() (all [][]string) {
	if !m.joins() {
		return nil
	}
	tables := []workshop.Table{m.first}
	for _, name := range m.recipe.Lists() {
		if t, ok := m.tables[name]; ok {
			tables = append(tables, t)
		}
	}
	for _, c := range m.Columns {
		of := []string{}
		for _, t := range tables {
			if _, err := t.Column(c); err == nil {
				of = append(of, t.Name)
			}
		}
		if len(of) == len(tables) {
			of = []string{"all lists"}
		}
		all = append(all, of)
	}
	return all
}

// provenance are the sentences that say of what a list was made.
func (m *Making) provenance() []string {
	out := []string{"Made of “" + m.first.Name + "”."}
	for _, s := range m.recipe {
		out = append(out, say.Sentence(s.Says(m.called)))
	}
	return out
}

// Says is what was made of what, in a sentence.
func (m *Making) Says(r pack.WorkshopReport) string {
	parts := []string{"“" + m.first.Name + "”"}
	for i, s := range m.recipe {
		said := " " + s.Says(m.called)
		if i > 0 {
			said = ", then" + said
		}
		parts = append(parts, said)
	}
	said := strings.Join(parts, "") + ": " + m.share(r)
	if m.split != nil {
		said += fmt.Sprintf(", in %s", say.Plural(int64(len(r.Parts)), "list", "lists"))
	}
	return said + "."
}

// joins reports whether a step takes the rows of several lists.
func joins(s workshop.Step) bool { return s.Do == workshop.DoMerge || s.Do == workshop.DoOnly }

// joins reports whether rows of several lists are put together.
func (m *Making) joins() bool { return slices.ContainsFunc(m.recipe, joins) }

// share says how many rows are left of how many.
func (m *Making) share(r pack.WorkshopReport) string {
	of := m.Made.First.Rows
	for i, s := range m.recipe {
		if !joins(s) {
			continue
		}
		for _, o := range m.Others[i] {
			of += o.Rows
		}
	}
	if m.joins() {
		return fmt.Sprintf("%s of %s in all lists", say.Rows(r.Rows), say.Number(of))
	}
	return fmt.Sprintf("%s of %s", say.Number(r.Rows), say.Rows(m.Made.First.Rows))
}

// Import makes the lists. key makes each of them once, however often it is tried.
func (m *ListMaking) Import(ctx context.Context, key string) (made []store.List, err error) {
	if m.split != nil {
		return m.importParts(ctx, key)
	}
	r, w := io.Pipe()
	defer r.Close()
	go func() {
		out := bufio.NewWriterSize(w, 1<<16)
		err := Write(m.Table, format.AsBrought, out)
		if err == nil {
			err = out.Flush()
		}
		if err == nil && m.seen.Rows == 0 {
			err = errNoRow
		}
		_ = w.CloseWithError(err)
	}()
	l, err := m.importOne(ctx, r, m.name(), key, m.provenance())
	if errors.Is(err, errNoRow) {
		err = wrong(errNoRow)
	}
	return []store.List{l}, err
}

// importParts writes the parts down, and makes a list of each.
func (m *ListMaking) importParts(ctx context.Context, key string) (made []store.List, err error) {
	var parts []workshop.Part
	var files []*os.File
	defer func() {
		for _, f := range files {
			err = errors.Join(err, f.Close())
		}
	}()
	err = m.WriteParts(func(p workshop.Part) (io.Writer, error) {
		f, err := os.CreateTemp("", "varnet-workshop-")
		if err != nil {
			return nil, err
		}
		parts, files = append(parts, p), append(files, f)
		return f, os.Remove(f.Name()) // it is gone with the process
	})
	if err != nil {
		return nil, err
	}
	for i, p := range parts {
		if _, err := files[i].Seek(0, io.SeekStart); err != nil {
			return made, err
		}
		value := p.Value
		if value == "" {
			value = "without a value"
		}
		l, err := m.importOne(ctx, files[i], m.name()+", "+value, fmt.Sprintf("%s, part %d", key, i+1), append(m.provenance(), "Split: “"+value+"”."))
		if err != nil {
			return made, err
		}
		made = append(made, l)
	}
	return made, nil
}

// name returns what the new list is named.
func (m *ListMaking) name() string {
	if m.Name != "" {
		return m.Name
	}
	if len(m.recipe) == 0 {
		return m.List.Name
	}
	name := []rune(m.List.Name + " " + m.recipe[0].Says(m.called))
	return string(name[:min(len(name), longestName)])
}

// longestName is how many characters of what was done a list is called by.
const longestName = 120

// errNoRow ends an import of nothing.
var errNoRow = errors.New("no row is left, so no list was made; look at the conditions, or at what the lists are compared by")

// importOne makes a list of a text in the dialect of what is made.
func (m *ListMaking) importOne(ctx context.Context, body io.Reader, name, key string, madeOf []string) (store.List, error) {
	if l, err := m.workshop.Store.ListByKey(ctx, m.Workspace, key); !errors.Is(err, store.ErrNotFound) {
		return l, err
	}
	if len(m.Addresses) == 0 {
		return store.List{}, &Wrong{"The column with the addresses was dropped. A list needs one; write a file instead."}
	}
	d := Dialect(m.Table)
	f := intake.File{Workspace: m.Workspace, Name: name, FileName: FileName(name), AddressColumns: m.Addresses, Key: key, MadeOf: madeOf, Quiet: m.Quiet,
		Overrule: sheet.Overrule{Delimiter: &d.Delimiter, Quote: &d.Quote, Encoding: &d.Encoding, Header: &d.Header}}
	if m.Earlier != nil {
		return m.workshop.Importer.ImportNewer(ctx, intake.Newer{File: f, List: *m.Earlier, Mode: intake.Replace}, body)
	}
	return m.workshop.Importer.Import(ctx, f, body)
}

// FileName is what a file of something is called.
func FileName(name string) string {
	kept := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|`, r) || r < ' ' {
			return '-'
		}
		return r
	}, name)
	return kept + ".csv"
}
