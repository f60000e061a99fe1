package work

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/connect"
	"varnet/internal/intake"
	"varnet/internal/store"
)

// CollectArgs names an import from a connection.
type CollectArgs struct {
	Import int64 `json:"import"`
}

// Kind names the job.
func (CollectArgs) Kind() string { return "collect" }

// InsertOpts makes it one job an import.
func (CollectArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueConnect, UniqueOpts: unique}
}

type collectWorker struct {
	river.WorkerDefaults[CollectArgs]
	engine *Engine
}

// Timeout leaves a job the time that the largest place takes.
func (w *collectWorker) Timeout(*river.Job[CollectArgs]) time.Duration { return connectTime }

// Work reads pages of contacts, each kept with the mark from which to go on; when all are there,
// they become a list.
func (w *collectWorker) Work(ctx context.Context, job *river.Job[CollectArgs]) error {
	e := w.engine
	i, kept, err := e.Store.ImportAtWork(ctx, job.Args.Import)
	if err != nil || i.EndedAt != nil {
		return notThere(err)
	}
	c := collecting{engine: e, i: i, kept: kept}
	return e.atPlace(ctx, kept, i.BegunAt, c.work, c.fail)
}

// Collect begins an import from a connection.
func (e *Engine) Collect(ctx context.Context, i *store.Import) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error { return e.collect(ctx, s, tx, i) })
}

func (e *Engine) collect(ctx context.Context, s *store.Store, tx pgx.Tx, i *store.Import) error {
	i.State = store.ImportReading
	if err := s.NewImport(ctx, i); err != nil {
		return err
	}
	return e.insert(ctx, tx, CollectArgs{i.ID})
}

// collecting is an import at work.
type collecting struct {
	engine *Engine
	i      store.Import
	kept   store.Connection
}

func (c *collecting) work(ctx context.Context) error {
	place, err := c.engine.Connections.Open(c.kept)
	if err != nil {
		return err
	}
	defer place.Close()
	if files, ok := place.(connect.FilePlace); ok {
		return c.file(ctx, files)
	}
	if c.i.State == store.ImportReading {
		if done, err := c.changes(ctx, place); err != nil || done {
			return err
		}
		if err := c.read(ctx, place); err != nil {
			return err
		}
	}
	return c.list(ctx)
}

// read reads the pages that are not there yet.
func (c *collecting) read(ctx context.Context, place connect.Place) error {
	e, start := c.engine, time.Now()
	if c.i.Mark == "" && c.i.Pages > 0 { // the place gives nothing to go on from
		if err := e.Store.BeginAnew(ctx, c.i.ID); err != nil {
			return err
		}
		c.i.Pages, c.i.Contacts = 0, 0
	}
	left, most, err := e.Store.RowsLeft(ctx, c.i.WorkspaceID)
	if err != nil {
		return err
	}
	err = place.Contacts(ctx, c.i.Collection, c.i.Mark, func(p connect.Page) error {
		if err := c.page(ctx, p); err != nil {
			return err
		}
		if left != nil && c.i.Contacts > *left {
			return &intake.TooManyRows{Left: *left, Most: *most}
		}
		if p.Next != "" && (time.Since(start) > connectSlice || e.closing.Load()) {
			return errPause
		}
		return nil
	})
	if err != nil {
		return err
	}
	if c.i.Contacts == 0 {
		return connect.Troublef("“%s” has no contacts. Nothing was imported.", c.i.CollectionName)
	}
	c.i.State = store.ImportImporting
	return e.Store.SetImport(ctx, c.i)
}

// mostBeyond is how many times the contacts that it says there are a place may send.
const mostBeyond = 3

// mostEmpty is how many more pages than contacts there may be.
const mostEmpty = 1000

// page keeps a page of contacts.
func (c *collecting) page(ctx context.Context, p connect.Page) error {
	if len(p.Contacts) == 0 && p.Next == "" {
		return nil
	}
	for _, one := range p.Contacts {
		if err := one.Hold(); err != nil {
			return err
		}
	}
	c.widen(p.Contacts)
	if len(c.i.Columns) > connect.MostCells {
		return connect.Troublef("The contacts have more than %s different fields. Choose those that you want.", say.Number(connect.MostCells))
	}
	c.i.Contacts += int64(len(p.Contacts))
	c.i.Mark, c.i.Pages = p.Next, c.i.Pages+1
	if e := c.i.Expected; e > 0 && c.i.Contacts > mostBeyond*e+10_000 || int64(c.i.Pages) > c.i.Contacts+mostEmpty {
		return connect.Troublef("The place says that there are %s contacts, has sent %s, and does not come to an end. Nothing was imported.", say.Number(max(0, e)), say.Number(c.i.Contacts))
	}
	packed, err := packPage(p.Contacts)
	if err != nil {
		return err
	}
	return c.engine.Store.AddPage(ctx, c.i, packed)
}

// widen makes room for the fields and addresses of contacts.
func (c *collecting) widen(contacts []connect.Contact) {
	for _, one := range contacts {
		c.i.Addresses = max(c.i.Addresses, len(connect.InColumns(one.Addresses)))
		for _, cell := range one.Cells {
			if !slices.Contains(c.i.Columns, cell.Name) {
				c.i.Columns = append(c.i.Columns, cell.Name)
			}
		}
	}
}

// packPage packs contacts as JSON, compressed: they are there for as long as an import takes.
func packPage(contacts []connect.Contact) ([]byte, error) {
	var out bytes.Buffer
	z, err := gzip.NewWriterLevel(&out, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	err = errors.Join(json.NewEncoder(z).Encode(contacts), z.Close())
	return out.Bytes(), err
}

func unpackPage(packed []byte) (out []connect.Contact, err error) {
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err == nil {
		err = json.NewDecoder(z).Decode(&out)
	}
	return out, err
}

// file imports a file, which comes in one piece.
func (c *collecting) file(ctx context.Context, place connect.FilePlace) error {
	f, err := place.Open(ctx, c.i.Collection, "")
	if err != nil {
		return err
	}
	defer f.Body.Close()
	c.i.Tag = f.Tag
	return c.become(ctx, f.Name, nil, f.Body)
}

// list makes the contacts that came a list.
func (c *collecting) list(ctx context.Context) error {
	names, addresses := c.columns()
	r, w := io.Pipe()
	defer r.Close()
	go func() { _ = w.CloseWithError(c.write(ctx, w, names)) }()
	return c.become(ctx, c.i.CollectionName+".csv", addresses, r)
}

// columns are the names of the columns of the list, and which of them hold addresses.
func (c *collecting) columns() (names []string, addresses []int) {
	taken := func(n string) bool {
		return slices.ContainsFunc(slices.Concat(names, c.i.Columns), func(o string) bool { return strings.EqualFold(o, n) })
	}
	add := func(n string) {
		for taken(n) {
			n = "contact's " + n
		}
		names = append(names, n)
	}
	add("key")
	for i := range max(1, c.i.Addresses) {
		addresses = append(addresses, len(names))
		if i == 0 {
			add("e-mail")
		} else {
			add(fmt.Sprintf("e-mail %d", i+1))
		}
	}
	return append(names, c.i.Columns...), addresses
}

// write writes the contacts as CSV, each key once.
func (c *collecting) write(ctx context.Context, to io.Writer, names []string) error {
	out := csv.NewWriter(to)
	if err := out.Write(names); err != nil {
		return err
	}
	records := c.records(names)
	seen, seed := map[uint64]struct{}{}, maphash.MakeSeed()
	return errors.Join(c.engine.Store.EachPage(ctx, c.i, func(packed []byte) error {
		contacts, err := unpackPage(packed)
		for _, one := range contacts {
			key := maphash.String(seed, one.Key)
			if _, again := seen[key]; again {
				continue
			}
			seen[key] = struct{}{}
			if err := out.Write(records.of(one)); err != nil {
				return err
			}
		}
		return err
	}), flushed(out))
}

func flushed(out *csv.Writer) error {
	out.Flush()
	return out.Error()
}

// become imports what came as a list, once: in the place of the earlier one, if there is one.
func (c *collecting) become(ctx context.Context, fileName string, addresses []int, body io.Reader) error {
	e := c.engine
	f := intake.File{Workspace: c.i.WorkspaceID, Name: c.i.ListName, FileName: fileName, Key: fmt.Sprintf("connection %d, import %d", c.i.ConnectionID, c.i.ID), Quiet: c.i.Quiet,
		ConnectionID: &c.i.ConnectionID, Collection: c.i.Collection, AddressColumns: addresses}
	if addresses != nil {
		header, comma, quote, utf8 := true, ",", `"`, sheet.UTF8
		f.Overrule = sheet.Overrule{Header: &header, Delimiter: &comma, Quote: &quote, Encoding: &utf8}
	}
	l, err := e.Store.ListByKey(ctx, c.i.WorkspaceID, f.Key)
	if errors.Is(err, store.ErrNotFound) {
		l, err = c.imported(ctx, f, body)
	}
	if err != nil {
		return err
	}
	now := time.Now()
	c.i.State, c.i.ListID, c.i.EndedAt, c.i.Contacts = store.ImportDone, &l.ID, &now, l.Rows
	c.i.Says = strings.TrimSpace(fmt.Sprintf("%s of “%s” are the list “%s”. %s", say.Plural(l.Rows, "contact", "contacts"), c.i.CollectionName, l.Name, c.i.Says))
	return e.Store.SetImport(ctx, c.i)
}

func (c *collecting) imported(ctx context.Context, f intake.File, body io.Reader) (store.List, error) {
	e := c.engine
	if c.i.EarlierID == nil {
		return e.Importer.Import(ctx, f, body)
	}
	before, err := e.Store.List(ctx, c.i.WorkspaceID, *c.i.EarlierID)
	if err != nil {
		return before, err
	}
	return e.Importer.ImportNewer(ctx, intake.Newer{File: f, List: before, Mode: intake.Replace}, body)
}

// fail ends the import without a list.
func (c *collecting) fail(ctx context.Context, why string) error {
	now := time.Now()
	c.i.State, c.i.Says, c.i.EndedAt = store.ImportFailed, why, &now
	return c.engine.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.SetImport(ctx, c.i); err != nil || c.i.Quiet {
			return notThere(err)
		}
		return c.engine.Happened(ctx, s, tx, event.Event{Code: event.ImportRefused, Workspace: c.i.WorkspaceID, Says: why,
			Data: event.Data{File: "“" + c.i.CollectionName + "” of " + c.kept.Name, Words: why}})
	})
}

// ChooseCollection settles what of a place is imported, and as what: one that was imported before
// becomes a newer import of that list.
func (e *Engine) ChooseCollection(ctx context.Context, place connect.Place, i *store.Import) error {
	ctx, cancel := context.WithTimeout(ctx, collectionsWait)
	defer cancel()
	all, err := place.Collections(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(all, func(c connect.Collection) bool { return c.ID == i.Collection })
	if at < 0 {
		at = slices.IndexFunc(all, func(c connect.Collection) bool { return c.Name == i.Collection })
	}
	if at < 0 {
		return connect.Troublef("There is no collection %q at the place any more.", i.Collection)
	}
	i.Collection, i.CollectionName, i.Expected = all[at].ID, all[at].Name, all[at].Contacts
	before, err := e.Store.NewestFrom(ctx, i.WorkspaceID, i.ConnectionID, i.Collection)
	switch {
	case err == nil:
		i.EarlierID = &before.ID
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	if i.ListName == "" {
		i.ListName = i.CollectionName
	}
	return nil
}

// collectionsWait is how long a place may take to say what it has.
const collectionsWait = 45 * time.Second
