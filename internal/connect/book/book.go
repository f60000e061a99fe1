// Package book connects address books by CardDAV (RFC 6352): contacts are cards (RFC 6350), of
// which everything that is in them stays; what is written back is a category, a property or a copy
// in a second book.
package book

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/emersion/go-webdav/carddav"

	"varnet/core/problem"
	"varnet/core/say"
	"varnet/internal/connect"
)

// Kind is address books.
var Kind = connect.Kind{
	Code: "address-book", Title: "Address book", Says: "An address book server that speaks CardDAV.",
	Fields: []connect.Field{
		{Name: "address", Title: "Address", Required: true, Example: "https://books.fernhollow.example/"},
		{Name: "user", Title: "User", Required: true},
		{Name: "password", Title: "Password", Secret: true, Required: true},
	},
	Takes: []connect.Act{connect.Collect, connect.SetField, connect.Tag},
	Leads: connect.ByFields("address"),
	Check: func(s connect.Settings) error {
		u, err := url.Parse(s["address"])
		if err != nil || u.Host == "" || u.User != nil || u.Scheme != "http" && u.Scheme != "https" {
			return problem.In("address", "%q is not an address such as https://books.fernhollow.example/", s["address"])
		}
		return nil
	},
	Open: open,
}

type place struct {
	web  *connect.Web
	base *url.URL
	dav  *carddav.Client
	// read are the cards that Now read last, which Write changes if they are still the same.
	read map[string]card
}

func open(env connect.Env, s connect.Settings) (connect.Place, error) {
	u, err := url.Parse(s["address"])
	if err != nil {
		return nil, problem.In("address", "%s", err)
	}
	p := &place{web: env.NewWeb("", 0), base: u}
	p.web.SignIn = func(_ context.Context, r *http.Request) error {
		r.SetBasicAuth(s["user"], s["password"])
		return nil
	}
	p.dav, err = carddav.NewClient(doer{p.web}, s["address"])
	if err != nil {
		return nil, problem.In("address", "%s", err)
	}
	return p, nil
}

// Close ends its connections.
func (p *place) Close() error { p.web.HTTP.CloseIdleConnections(); return nil }

func (p *place) Takes() []connect.Act { return Kind.Takes }

// home is where the address books are (RFC 6352, 7.1.1).
func (p *place) home(ctx context.Context) (string, error) {
	principal, err := p.dav.FindCurrentUserPrincipal(ctx)
	if err != nil {
		return "", p.failed(err)
	}
	home, err := p.dav.FindAddressBookHomeSet(ctx, principal)
	return home, p.failed(err)
}

// failed is an error of the library, which wraps ours.
func (p *place) failed(err error) error {
	if err == nil {
		return nil
	}
	if connect.StatusOf(err) != 0 || connect.Passes(err) || connect.IsBroken(err) {
		return err
	}
	return connect.Troublef("%s did not answer as an address book server does: %s.", p.base.Host, connect.Plain(err.Error()))
}

// Test signs in, and counts the books.
func (p *place) Test(ctx context.Context) (string, error) {
	all, err := p.Collections(ctx)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("Signed in at %s with %s.", p.base.Host, say.Plural(int64(len(all)), "address book", "address books")), nil
}

// Collections are the books.
func (p *place) Collections(ctx context.Context) (out []connect.Collection, err error) {
	home, err := p.home(ctx)
	if err != nil {
		return nil, err
	}
	books, err := p.dav.FindAddressBooks(ctx, home)
	if err != nil {
		return nil, p.failed(err)
	}
	for _, b := range books {
		paths, err := p.paths(ctx, b.Path)
		if err != nil {
			return nil, err
		}
		name := b.Name
		if name == "" {
			name = strings.Trim(strings.TrimPrefix(b.Path, home), "/")
		}
		out = append(out, connect.Collection{ID: b.Path, Name: name, Kind: "address book", Contacts: int64(len(paths))})
	}
	return out, nil
}

// paths are those of the cards of a book, in order.
func (p *place) paths(ctx context.Context, book string) ([]string, error) {
	if _, err := p.at(book); err != nil {
		return nil, err
	}
	r, err := p.dav.SyncCollection(ctx, book, &carddav.SyncQuery{})
	if noSync(err) {
		return p.listed(ctx, book)
	}
	if err != nil {
		return nil, p.failed(err)
	}
	var out []string
	for _, o := range r.Updated {
		if o.Path != book {
			out = append(out, o.Path)
		}
	}
	slices.Sort(out)
	return out, nil
}

// noSync reports an error by which a server says that it does not know the report of changes (RFC 6578), which it
// need not.
func noSync(err error) bool {
	switch connect.StatusOf(err) {
	case http.StatusBadRequest, http.StatusForbidden, http.StatusMethodNotAllowed, http.StatusUnsupportedMediaType, http.StatusNotImplemented:
		return true
	}
	return false
}

// listed are the paths of what is in a book, as every server tells them (RFC 4918, 9.1).
func (p *place) listed(ctx context.Context, book string) (out []string, err error) {
	all, err := p.dav.ReadDir(ctx, book, false)
	if err != nil {
		return nil, p.failed(err)
	}
	for _, f := range all {
		if !f.IsDir && strings.TrimSuffix(f.Path, "/") != strings.TrimSuffix(book, "/") {
			out = append(out, f.Path)
		}
	}
	slices.Sort(out)
	return out, nil
}

// Token is the sync-token of a book (RFC 6578); "" where the server has none.
func (p *place) Token(ctx context.Context, book string) (string, error) {
	r, err := p.dav.SyncCollection(ctx, book, &carddav.SyncQuery{})
	if noSync(err) {
		return "", nil
	}
	if err != nil {
		return "", p.failed(err)
	}
	return r.SyncToken, nil
}

// Since asks for what has changed since a sync-token (RFC 6578, 3.2). A token that the server does
// not take any more is answered with an error for the client.
func (p *place) Since(ctx context.Context, book, token string) (d connect.Difference, ok bool, err error) {
	if token == "" {
		return d, false, nil
	}
	r, err := p.dav.SyncCollection(ctx, book, &carddav.SyncQuery{SyncToken: token})
	if status := connect.StatusOf(err); status/100 == 4 && !connect.IsBroken(err) || status == http.StatusForbidden {
		return d, false, nil
	}
	if err != nil {
		return d, false, p.failed(err)
	}
	if len(r.Updated) > connect.MostChanged {
		return d, false, nil
	}
	d.Token, d.Gone = r.SyncToken, r.Deleted
	var paths []string
	for _, o := range r.Updated {
		paths = append(paths, o.Path)
	}
	slices.Sort(paths)
	for batch := range slices.Chunk(paths, atOnce) {
		cards, err := p.cards(ctx, book, batch)
		if err != nil {
			return d, false, err
		}
		for _, c := range cards {
			one := contact(c.Path, c.text)
			if err := one.Hold(); err != nil {
				return d, false, err
			}
			d.Changed = append(d.Changed, one)
		}
	}
	return d, true, nil
}

// at returns the address of a path of the server, whatever characters it has: what it gave as a key stays on it.
func (p *place) at(path string) (string, error) {
	if !strings.HasPrefix(path, "/") || strings.HasPrefix(path, "//") {
		return "", connect.Troublef("%.80q is not a path of %s.", path, p.base.Host)
	}
	at := *p.base
	at.Path, at.RawPath, at.RawQuery = path, "", ""
	return at.String(), nil
}

// atOnce is how many cards are read at a time.
const atOnce = 100

// Contacts reads the cards in the order of their paths; the mark is the last one.
func (p *place) Contacts(ctx context.Context, book, from string, each func(connect.Page) error) error {
	paths, err := p.paths(ctx, book)
	if err != nil {
		return err
	}
	first, found := slices.BinarySearch(paths, from)
	if found {
		first++
	}
	for batch := range slices.Chunk(paths[first:], atOnce) {
		cards, err := p.cards(ctx, book, batch)
		if err != nil {
			return err
		}
		page := connect.Page{Next: batch[len(batch)-1]}
		for _, c := range cards {
			one := contact(c.Path, c.text)
			if err := one.Hold(); err != nil {
				return err
			}
			page.Contacts = append(page.Contacts, one)
		}
		if err := each(page); err != nil {
			return err
		}
	}
	return nil
}

// CollectionKind is what a collection is called here.
func (p *place) CollectionKind() string { return "address book" }
