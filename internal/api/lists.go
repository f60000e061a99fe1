package api

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/contract"
	"varnet/internal/intake"
	"varnet/internal/store"
	"varnet/internal/summary"
)

// ByID is a path with an ID.
type ByID struct {
	ID int64 `path:"id" doc:"Its ID."`
}

// Streamed is a request whose body is read as it comes.
type Streamed struct{ body io.Reader }

// Resolve takes hold of the body before anything reads it.
func (s *Streamed) Resolve(ctx huma.Context) []error {
	s.body = ctx.BodyReader()
	return nil
}

var fileBody = &huma.RequestBody{Required: true, Description: "The file, byte for byte.",
	Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}

func (a *API) registerLists(h huma.API) {
	preview := operation("preview-file", http.MethodPost, "/previews", "See what a file looks like; of delimited text its first 256 KB are enough")
	preview.RequestBody = fileBody
	huma.Register(h, preview, a.preview)
	importFile := creates(operation("import-list", http.MethodPost, "/lists", "Import a file as a list"))
	importFile.RequestBody = fileBody
	huma.Register(h, importFile, a.importFile)
	again := creates(operation("import-newer-file", http.MethodPost, "/lists/{id}/imports", "Import a newer file for a list"))
	again.RequestBody = fileBody
	huma.Register(h, again, a.importNewer)
	huma.Register(h, operation("get-lists", http.MethodGet, "/lists", "The lists, page by page"), a.lists)
	problems := operation("get-list-problems", http.MethodGet, "/lists/{id}/problems", "The problem rows of a list, as CSV")
	problems.Responses = fileResponse("text/csv")
	huma.Register(h, problems, a.problems)
	huma.Register(h, operation("count-common", http.MethodGet, "/lists/{id}/common", "How many addresses are also in another list"), a.common)
	huma.Register(h, operation("get-list", http.MethodGet, "/lists/{id}", "One list"), a.list)
	huma.Register(h, operation("change-list", http.MethodPatch, "/lists/{id}", "Change the name of a list, how long it is kept, whether it is archived"), a.changeList)
	huma.Register(h, operation("delete-list", http.MethodDelete, "/lists/{id}", "Delete a list with its runs, results and evidence"),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := a.engine.DeleteList(ctx, workspace(ctx).ID, in.ID); err != nil {
				return nil, a.failed(ctx, err)
			}
			return nil, nil
		})
}

// Written overrules how a file is read.
type Written struct {
	Sheet     string `query:"sheet" maxLength:"200" doc:"The sheet of a spreadsheet; the first with something on it unless given."`
	Delimiter string `query:"delimiter" default:"guess" maxLength:"10" doc:"The delimiter between cells: guess, one character, tab or none."`
	Quote     string `query:"quote" enum:"guess,double,single,none" default:"guess" doc:"The quotes around cells."`
	Encoding  string `query:"encoding" default:"guess" maxLength:"20" doc:"The text encoding: guess, or a name such as windows-1250."`
	Header    string `query:"header" enum:"guess,yes,no" default:"guess" doc:"Whether the first record names the columns."`
}

// guessed overrules nothing.
var guessed = Written{Delimiter: "guess", Quote: "guess", Encoding: "guess", Header: "guess"}

func (w Written) overrule() (o sheet.Overrule) {
	chosen := func(text, name string) *string {
		if text == name {
			return nil
		}
		return &text
	}
	o.Encoding = chosen(w.Encoding, "guess")
	if o.Delimiter = chosen(w.Delimiter, "guess"); o.Delimiter != nil {
		switch w.Delimiter {
		case "tab":
			*o.Delimiter = "\t"
		case "none":
			*o.Delimiter = ""
		}
	}
	if w.Quote != "guess" {
		quote := map[string]string{"double": `"`, "single": "'"}[w.Quote]
		o.Quote = &quote
	}
	if w.Header != "guess" {
		yes := w.Header == "yes"
		o.Header = &yes
	}
	return o
}

func (a *API) preview(ctx context.Context, in *struct {
	Streamed
	Written
}) (*struct{ Body contract.Preview }, error) {
	out := &struct{ Body contract.Preview }{}
	err := a.whole(ctx, a.looking, in.body, func(file io.Reader) error {
		r, err := intake.Read(ctx, file, in.Sheet, in.overrule())
		if err != nil {
			return err
		}
		defer r.Close()
		out.Body = previewOf(r)
		return nil
	})
	if err != nil {
		return nil, a.broken(ctx, err)
	}
	return out, nil
}

func previewOf(r *intake.Reading) contract.Preview {
	return contract.Preview{Format: string(r.Kind), Sheets: append([]string{}, r.Sheets...), Sheet: r.Sheet, Packed: r.Packed,
		Dialect: contract.Dialect(r.Dialect), Columns: r.Columns, AddressColumn: r.AddressColumn, AlsoAddresses: append([]int{}, r.AlsoAddresses...), Types: types(r.Kinds), Rows: r.Guessed.Rows, Sentence: r.Sentence(),
		Encodings: sheet.Encodings()}
}

// broken tells a file that broke off on its way from one that is wrong.
func (a *API) broken(ctx context.Context, err error) error {
	if told := huma.StatusError(nil); errors.As(err, &told) {
		return told
	}
	switch {
	case errors.Is(err, errSlow):
		return huma.NewError(http.StatusRequestTimeout, "The file came too slowly, and nothing was imported. Send it in parts (PUT /uploads/{key}): they may come at any time.")
	case errors.Is(err, errLarge):
		return huma.Error413RequestEntityTooLarge(say.Sentence(err.Error()))
	}
	if errors.Is(err, errBrokeOff) {
		return huma.Error400BadRequest("The file broke off while it was read; nothing was imported. Send it again.")
	}
	return a.failed(ctx, err)
}

// types are what the columns hold.
func types(kinds []sheet.Kind) []sheet.Type {
	out := make([]sheet.Type, len(kinds))
	for i, k := range kinds {
		out[i] = k.Type
	}
	return out
}

// ImportInput is how a file is imported.
type ImportInput struct {
	Streamed
	Written
	Name           string   `query:"name" doc:"The list's name; the file's name unless given."`
	FileName       string   `query:"fileName" doc:"The file's name."`
	AddressColumns []int    `query:"addressColumns" maxItems:"8" doc:"The columns that hold addresses, from 0, in the order in which they are to be used; none leaves it to Varnet."`
	SameMailbox    bool     `query:"sameMailbox" doc:"Tell duplicates by what the operator takes for the same mailbox (dots or tags left out where it is known to)."`
	Holds          []string `query:"holds,explode" maxItems:"50" doc:"What a column holds, as COLUMN=first-name, last-name, name, activity:SEEN or opinion:WHOSE; once for each column. Their names tell it unless given."`
	IdempotencyKey string   `header:"Idempotency-Key" maxLength:"100" doc:"The same as the query's key."`
	Key            string   `query:"key" maxLength:"100" doc:"Imports the list once: whoever sends the same key again is given the list that is there. A file sent part by part under this key stands for the body."`
}

func (in *ImportInput) key() string { return cmp.Or(in.Key, in.IdempotencyKey) }

// file returns the file as it is to be imported; what is wrong with what columns are said to hold is an
// error for the person who asked.
func (in *ImportInput) file(ctx context.Context) (intake.File, error) {
	f := intake.File{Workspace: workspace(ctx).ID, Name: in.Name, FileName: in.FileName, SameMailbox: in.SameMailbox,
		Sheet: in.Sheet, Overrule: in.overrule(), AddressColumns: in.AddressColumns, Key: in.key()}
	for _, text := range in.Holds {
		m, err := sheet.ReadMeaning(text)
		if err != nil {
			return f, huma.Error422UnprocessableEntity(say.Sentence(err.Error()), &huma.ErrorDetail{Location: "query.holds", Message: "this does not say what a column holds", Value: text})
		}
		f.Holds = append(f.Holds, m)
	}
	return f, nil
}

func (a *API) importFile(ctx context.Context, in *ImportInput) (*made[contract.List], error) {
	f, err := in.file(ctx)
	if err != nil {
		return nil, err
	}
	l, err := a.once(ctx, in.key(), in.body, func(body io.Reader) (store.List, error) { return a.engine.Importer.Import(ctx, f, body) })
	if err != nil {
		return nil, a.notImported(ctx, in.FileName, err)
	}
	return madeList(l), nil
}

func (a *API) importNewer(ctx context.Context, in *struct {
	ByID
	ImportInput
	Mode   string `query:"mode" enum:"append,replace,update" default:"append" doc:"append: after the list's rows; replace: in their place; update: in the place of rows with the same key, and after them otherwise."`
	RowKey string `query:"rowKey" maxLength:"500" doc:"With update: the column by which rows are found again; the address unless given."`
}) (*made[contract.List], error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	f, err := in.file(ctx)
	if err != nil {
		return nil, err
	}
	newer := intake.Newer{File: f, List: l, Mode: intake.Mode(in.Mode), RowKey: in.RowKey}
	made, err := a.once(ctx, in.key(), in.body, func(body io.Reader) (store.List, error) { return a.engine.Importer.ImportNewer(ctx, newer, body) })
	if err != nil {
		return nil, a.notImported(ctx, in.FileName, err)
	}
	return madeList(made), nil
}

// notImported tells why a file is not imported: whoever sends it, and as an event where the file
// is to blame.
func (a *API) notImported(ctx context.Context, file string, err error) error {
	var inFile *sheet.Error
	var full *intake.TooManyRows
	if errors.As(err, &inFile) || errors.As(err, &full) {
		if err := a.engine.FileRefused(ctx, workspace(ctx).ID, file, err.Error()); err != nil {
			a.log.Warn("it is not told that a file was refused", "err", err)
		}
	}
	return a.broken(ctx, err)
}

// problems streams the rows that are not a plain address of their own.
func (a *API) problems(ctx context.Context, in *struct {
	ByID
	With int64 `query:"with" minimum:"0" doc:"Another list: the addresses that are also in it are returned too."`
}) (*huma.StreamResponse, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	var other store.List
	if err == nil && in.With > 0 {
		other, err = a.store.List(ctx, workspace(ctx).ID, in.With)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.stream(download{name: l.Name + "-problems.csv", kind: "text/csv; charset=utf-8", write: func(out io.Writer) error {
		w := csv.NewWriter(out)
		_ = w.Write([]string{"line", "row", "address cell", "problem"})
		line := func(t *store.Trouble, says string) error {
			return w.Write([]string{strconv.FormatInt(t.Line, 10), strconv.Itoa(int(t.Row)), sheet.Harmless(t.Typed), says})
		}
		err := a.store.EachTrouble(ctx, l, func(t *store.Trouble) error { return line(t, intake.Problem(t)) })
		if err == nil && in.With > 0 {
			err = a.store.EachCommon(ctx, l, other, func(t *store.Trouble) error {
				return line(t, fmt.Sprintf("The same address is in line %d of the list “%s”.", *t.First, other.Name))
			})
		}
		w.Flush()
		return cmp.Or(err, w.Error())
	}}), nil
}

func (a *API) common(ctx context.Context, in *struct {
	ByID
	With int64 `query:"with" required:"true" minimum:"1" doc:"The other list."`
}) (*struct{ Body contract.Common }, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	var other store.List
	if err == nil {
		other, err = a.store.List(ctx, workspace(ctx).ID, in.With)
	}
	var c contract.Common
	if err == nil {
		err = a.store.EachCommon(ctx, l, other, func(*store.Trouble) error { c.Addresses++; return nil })
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	c.Sentence = fmt.Sprintf("Of the %s addresses of “%s”, %s are also in “%s”.", say.Number(l.Addresses), l.Name, say.Number(c.Addresses), other.Name)
	return &struct{ Body contract.Common }{c}, nil
}

func (a *API) lists(ctx context.Context, in *struct {
	Cursor
	Limit
	Archived bool            `query:"archived" doc:"Archived lists, instead of the others."`
	Search   string          `query:"search" maxLength:"200" doc:"Only lists with this text in their name."`
	Order    store.ListOrder `query:"order" enum:"newest,name,largest" default:"newest" doc:"The order: the newest first, by name, or the largest first."`
}) (*pageOutput[contract.List], error) {
	f := store.ListFilter{Search: strings.TrimSpace(in.Search), Archived: in.Archived, Order: in.Order, Limit: in.Limit.Limit}
	if err := in.place(&f.After); err != nil {
		return nil, err
	}
	lists, err := a.store.Lists(ctx, workspace(ctx).ID, f)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.listsWithRuns(ctx, lists)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(out, f.Limit, func(l contract.List) any { return store.ListPlace{ID: l.ID, Name: l.Name, Rows: l.Rows} }), nil
}

func (a *API) list(ctx context.Context, in *ByID) (*struct{ Body contract.List }, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.listsWithRuns(ctx, []store.List{l})
	if err == nil {
		out[0].Estimate, err = a.lastEstimate(ctx, l.ID)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.List }{out[0]}, nil
}

func madeList(l store.List) *made[contract.List] {
	return &made[contract.List]{fmt.Sprintf("/api/v1/lists/%d", l.ID), listBody(l)}
}

func (a *API) changeList(ctx context.Context, in *struct {
	ByID
	Body contract.ListChange
}) (*struct{ Body contract.List }, error) {
	if in.Body.KeepDays != nil {
		_, most, err := a.store.KeepDays(ctx, workspace(ctx).ID)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		if err := keptNoLonger(*in.Body.KeepDays, most, "body.keepDays"); err != nil {
			return nil, err
		}
	}
	c := store.ListChange{Name: in.Body.Name, KeepDays: in.Body.KeepDays, Archived: in.Body.Archived}
	if err := a.store.ChangeList(ctx, workspace(ctx).ID, in.ID, c); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.list(ctx, &in.ByID)
}

// listsWithRuns adds to lists of the workspace their last runs.
func (a *API) listsWithRuns(ctx context.Context, lists []store.List) ([]contract.List, error) {
	w, numbers, byNumber := workspace(ctx).ID, make([]int64, len(lists)), make(map[int64]store.List, len(lists))
	for i, l := range lists {
		numbers[i], byNumber[l.ID] = l.ID, l
	}
	last, err := a.store.LastRuns(ctx, w, numbers)
	if err != nil {
		return nil, err
	}
	days, most, err := a.store.KeepDays(ctx, w)
	if err != nil {
		return nil, err
	}
	runs, err := a.summaries.Runs(ctx, slices.Collect(maps.Values(last)), byNumber, zone(ctx))
	if err != nil {
		return nil, err
	}
	ofList := make(map[int64]*contract.Run, len(runs))
	for i, r := range runs {
		ofList[r.ListID] = &runs[i]
	}
	return contract.Each(lists, func(l store.List) contract.List {
		b := listBody(l)
		b.KeptUntil, b.LastRun = keptUntil(l, days, most, last[l.ID].FinishedAt), ofList[l.ID]
		return b
	}), nil
}

func listBody(l store.List) contract.List {
	earlier := int64(0)
	var connection int64
	if l.ConnectionID != nil {
		connection = *l.ConnectionID
	}
	if l.EarlierID != nil {
		earlier = *l.EarlierID
	}
	return contract.List{ID: l.ID, Name: l.Name, FileName: l.FileName, Format: l.Format, Sheet: l.Sheet, Columns: l.Columns, AddressColumns: l.AddressColumns, Types: types(l.Kinds),
		Rows: l.Rows, Addresses: l.Addresses, Malformed: l.Malformed, Duplicates: l.Duplicates, Blank: l.Blank, Erased: l.Erased, Mended: l.Mended,
		Sentence: summary.List(l), EarlierID: earlier, ConnectionID: connection, Collection: l.Collection, MadeOf: l.MadeOf, CreatedAt: l.CreatedAt, ArchivedAt: l.ArchivedAt}
}
