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

// TestTokensOfOneCollection: what has changed is asked for by the token of the same collection at the same place alone; a
// connection may lead elsewhere than before.
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
	books := store.Connection{WorkspaceID: w.ID, Name: "books", Kind: "address-book", Settings: map[string]string{"address": "https://books.fernhollow.example/", "user": "ada"}}
	if err := s.NewConnection(ctx, &books); err != nil {
		t.Fatal(err)
	}
	importer := &intake.Importer{Store: s, Catalogue: func(context.Context, int64) (*catalogue.Catalogue, error) { return catalogue.Default(), nil },
		Imported: func(context.Context, *store.Store, pgx.Tx, store.List, intake.File) error { return nil }}
	l, err := importer.Import(ctx, intake.File{Workspace: w.ID, Name: "members.csv"}, strings.NewReader("key,e-mail\n1,ada@fernhollow.example\n"))
	if err != nil {
		t.Fatal(err)
	}
	engine := &Engine{}
	engine.Store = s
	// asked imports a collection after the list, and returns what of the place was asked.
	asked := func(collection, address, user string, earlier *int64) []string {
		t.Helper()
		i := store.Import{WorkspaceID: w.ID, ConnectionID: books.ID, Collection: collection, EarlierID: earlier, State: store.ImportReading}
		if err := s.NewImport(ctx, &i); err != nil {
			t.Fatal(err)
		}
		kept := books
		kept.Settings = map[string]string{"address": address, "user": user}
		place, at := &telling{}, collecting{engine: engine, i: i, kept: kept}
		if done, err := at.changes(ctx, place); done || err != nil {
			t.Fatal(done, err)
		}
		at.i.State, at.i.ListID = store.ImportDone, &l.ID
		if earlier == nil {
			if err := s.SetImport(ctx, at.i); err != nil {
				t.Fatal(err)
			}
		}
		return place.asked
	}
	const here = "https://books.fernhollow.example/"
	for _, c := range []struct {
		collection, address, user string
		earlier                   *int64
		want                      []string
	}{
		{"/members/", here, "ada", nil, []string{"token of /members/"}}, // the first, of which the list is
		{"/members/", here, "ben", &l.ID, []string{"/members/ since now", "token of /members/"}},
		{"/guests/", here, "ada", &l.ID, []string{"token of /guests/"}},
		{"/members/", "https://books.elsewhere.example/", "ada", &l.ID, []string{"token of /members/"}},
	} {
		if got := asked(c.collection, c.address, c.user, c.earlier); !slices.Equal(got, c.want) {
			t.Errorf("%s at %s: %q", c.collection, c.address, got)
		}
	}
}
