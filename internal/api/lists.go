package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/policy"
	"varnet/core/sheet"
	"varnet/internal/contract"
	"varnet/internal/store"
	"varnet/internal/work"
)

// Page is a keyset page, newest first.
type Page struct {
	Before int64 `query:"before" minimum:"0" doc:"Gives what came before this ID; 0: the newest."`
	Limit  int   `query:"limit" minimum:"1" maximum:"200" default:"50" doc:"How many at the most."`
}

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
	preview := operation("preview", http.MethodPost, "/previews", "See what the beginning of a file looks like (256 KB are read)")
	preview.RequestBody = fileBody
	huma.Register(h, preview, a.preview)
	bringIn := operation("bring-in", http.MethodPost, "/lists", "Bring a file in as a list")
	bringIn.RequestBody, bringIn.DefaultStatus = fileBody, http.StatusCreated
	huma.Register(h, bringIn, a.bringIn)
	huma.Register(h, operation("lists", http.MethodGet, "/lists", "The lists, newest first"), a.lists)
	huma.Register(h, operation("list", http.MethodGet, "/lists/{id}", "One list"), a.list)
	huma.Register(h, operation("delete-list", http.MethodDelete, "/lists/{id}", "Delete a list with its runs, results and evidence"),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := a.store.DeleteList(ctx, workspace(ctx).ID, in.ID); err != nil {
				return nil, a.failed(ctx, err)
			}
			return nil, nil
		})
}

func (a *API) preview(ctx context.Context, in *Streamed) (*struct{ Body contract.Preview }, error) {
	sample, err := io.ReadAll(io.LimitReader(in.body, sheet.SampleSize))
	if err != nil {
		return nil, huma.Error400BadRequest("The file broke off while it was read. Send it again.")
	}
	g, err := sheet.Guess(sample)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	p := contract.Preview{Dialect: g.Dialect, Columns: g.Columns, AddressColumn: g.AddressColumn, Rows: g.Rows, Sentence: guessSentence(g)}
	return &struct{ Body contract.Preview }{p}, nil
}

func guessSentence(g sheet.Guessed) string {
	between := map[string]string{",": "commas", ";": "semicolons", "\t": "tabs", "|": "upright strokes"}[g.Dialect.Delimiter]
	s := fmt.Sprintf("%d columns with %s between them", len(g.Columns), between)
	if between == "" {
		s = "One address a line"
	}
	if g.Dialect.Header {
		s += ", the first line names them"
	}
	if g.AddressColumn < 0 {
		return s + ". No column was recognised as holding addresses: choose it."
	}
	return s + fmt.Sprintf(". The addresses are in column %d, “%s”.", g.AddressColumn+1, g.Columns[g.AddressColumn])
}

type bringInInput struct {
	Streamed
	Name          string `query:"name" doc:"The list's name; the file's name unless given."`
	FileName      string `query:"fileName" doc:"The file's name."`
	AddressColumn int    `query:"addressColumn" minimum:"-1" default:"-1" doc:"The column that holds the addresses, from 0; -1 leaves it to Varnet."`
	SameMailbox   bool   `query:"sameMailbox" doc:"Tell duplicates by what the operator takes for the same mailbox (dots or tags left out where it is known to)."`
	Header        string `query:"header" enum:"guess,yes,no" default:"guess" doc:"Whether the first record names the columns."`
}

func (a *API) bringIn(ctx context.Context, in *bringInInput) (*struct{ Body contract.List }, error) {
	intake := work.Intake{Workspace: workspace(ctx).ID, Name: in.Name, FileName: in.FileName, SameMailbox: in.SameMailbox}
	if in.AddressColumn >= 0 {
		intake.AddressColumn = &in.AddressColumn
	}
	if in.Header != "guess" {
		yes := in.Header == "yes"
		intake.Header = &yes
	}
	l, err := a.engine.Ingest(ctx, intake, in.body)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, huma.Error400BadRequest("The file broke off while it was read; nothing was brought in. Send it again.")
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.List }{listBody(l)}, nil
}

func (a *API) lists(ctx context.Context, in *Page) (*struct{ Body []contract.List }, error) {
	w := workspace(ctx).ID
	lists, err := a.store.Lists(ctx, w, in.Before, in.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := make([]contract.List, 0, len(lists))
	for _, l := range lists {
		b, err := a.listWithRun(ctx, l)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		out = append(out, b)
	}
	return &struct{ Body []contract.List }{out}, nil
}

func (a *API) list(ctx context.Context, in *ByID) (*struct{ Body contract.List }, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b, err := a.listWithRun(ctx, l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.List }{b}, nil
}

// listWithRun adds the last run of the list.
func (a *API) listWithRun(ctx context.Context, l store.List) (contract.List, error) {
	b := listBody(l)
	runs, err := a.store.Runs(ctx, l.WorkspaceID, l.ID, 0, 1)
	if err != nil || len(runs) == 0 {
		return b, err
	}
	r, err := a.runBody(ctx, runs[0], l)
	b.LastRun = &r
	return b, err
}

func listBody(l store.List) contract.List {
	return contract.List{ID: l.ID, Name: l.Name, FileName: l.FileName, Columns: l.Columns, AddressColumn: l.AddressColumn,
		Rows: l.Rows, Addresses: l.Addresses, Malformed: l.Malformed, Duplicates: l.Duplicates, Blank: l.Blank, Mended: l.Mended,
		Sentence: listSentence(l), CreatedAt: l.CreatedAt}
}

// listSentence says what was read.
func listSentence(l store.List) string {
	s := fmt.Sprintf("%s were read, with %s different addresses.", policy.Rows(l.Rows), policy.Number(l.Addresses))
	var rest []string
	add := func(n int64, what string) {
		if n > 0 {
			rest = append(rest, policy.Number(n)+" "+what)
		}
	}
	add(l.Duplicates, "repeat the address of an earlier row")
	add(l.Blank, "have no address")
	add(l.Malformed, "hold something that is no address")
	if len(rest) > 0 {
		s += " Of the rows " + strings.Join(rest, ", ") + "."
	}
	if l.Mended > 0 {
		s += fmt.Sprintf(" From %s addresses something around them was removed; the file itself stays as it is.", policy.Number(l.Mended))
	}
	return s
}
