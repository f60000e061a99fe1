package work

import (
	"context"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"varnet/core/catalogue"
	"varnet/internal/connect"
	"varnet/internal/intake"
	"varnet/internal/store"
	"varnet/internal/testkit"
)

// telling is a place that tells what has changed, and takes no token.
type telling struct {
	connect.Place
	asked []string
}

func (p *telling) Token(_ context.Context, collection string) (string, error) {
	p.asked = append(p.asked, "token of "+collection)
	return "now", nil
}

func (p *telling) Since(_ context.Context, collection, token string) (d connect.Difference, ok bool, err error) {
	p.asked = append(p.asked, collection+" since "+token)
	return d, false, nil
}

// TestTokensOfOneCollection: what has changed is asked for by the token of the same collection of the same connection alone;
// a routine may read another one than before.
func TestTokensOfOneCollection(t *testing.T) {
	ctx := t.Context()
	s, err := store.Open(ctx, testkit.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	w, err := s.NewWorkspace(ctx, "ours")
	if err != nil {
		t.Fatal(err)
	}
	first, other := store.Connection{WorkspaceID: w.ID, Name: "books", Kind: "address-book", Settings: map[string]string{}}, store.Connection{WorkspaceID: w.ID, Name: "others", Kind: "address-book", Settings: map[string]string{}}
	for _, c := range []*store.Connection{&first, &other} {
		if err := s.NewConnection(ctx, c); err != nil {
			t.Fatal(err)
		}
	}
	importer := &intake.Importer{Store: s, Catalogue: func(context.Context, int64) (*catalogue.Catalogue, error) { return catalogue.Default(), nil },
		Imported: func(context.Context, *store.Store, pgx.Tx, store.List, intake.File) error { return nil }}
	l, err := importer.Import(ctx, intake.File{Workspace: w.ID, Name: "members.csv"}, strings.NewReader("key,e-mail\n1,ada@fernhollow.example\n"))
	if err != nil {
		t.Fatal(err)
	}
	before := store.Import{WorkspaceID: w.ID, ConnectionID: first.ID, Collection: "/members/", State: store.ImportReading}
	if err := s.NewImport(ctx, &before); err != nil {
		t.Fatal(err)
	}
	before.State, before.ListID, before.Tag = store.ImportDone, &l.ID, "then"
	if err := s.SetImport(ctx, before); err != nil {
		t.Fatal(err)
	}
	engine := &Engine{}
	engine.Store = s
	for _, c := range []struct {
		connection int64
		collection string
		earlier    *int64
		want       []string
	}{
		{first.ID, "/members/", &l.ID, []string{"/members/ since then", "token of /members/"}},
		{first.ID, "/guests/", &l.ID, []string{"token of /guests/"}},
		{other.ID, "/members/", &l.ID, []string{"token of /members/"}},
		{first.ID, "/members/", nil, []string{"token of /members/"}},
	} {
		i := store.Import{WorkspaceID: w.ID, ConnectionID: c.connection, Collection: c.collection, EarlierID: c.earlier, State: store.ImportReading}
		if err := s.NewImport(ctx, &i); err != nil {
			t.Fatal(err)
		}
		place := &telling{}
		at := collecting{engine: engine, i: i}
		if done, err := at.changes(ctx, place); done || err != nil || !slices.Equal(place.asked, c.want) || at.i.Tag != "now" {
			t.Errorf("%d %s: %t, %v: %q", c.connection, c.collection, done, err, place.asked)
		}
	}
}
