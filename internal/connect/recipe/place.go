package recipe

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"varnet/core/problem"
	"varnet/internal/connect"
)

// Kind is contact platforms that are described by a recipe.
var Kind = connect.Kind{
	Code: "platform", Title: "Contact platform", Says: "A contact platform with a JSON API, described by a recipe.",
	Fields: []connect.Field{
		{Name: "recipe", Title: "Recipe", Help: "The JSON that says how to speak with it; docs/connections.md explains one line by line.", Required: true, Long: true},
		{Name: "address", Title: "Address of the API", Help: "Only where it is not the one that the recipe names."},
		{Name: "key", Title: "Key", Help: "The key that the platform gave you. Left out where you sign in there.", Secret: true},
		{Name: "clientId", Title: "Client ID", Help: "Of Varnet at the platform, where you sign in there (OAuth)."},
		{Name: "clientSecret", Title: "Client secret", Help: "If the platform gave one.", Secret: true},
		{Name: "token", Title: "Sign-in", Help: "Is kept when you sign in at the platform.", Secret: true, Given: true},
	},
	Takes: connect.Acts(),
	Leads: leads,
	Check: func(s connect.Settings) error { _, _, err := read(s); return err },
	Open:  func(env connect.Env, s connect.Settings) (connect.Place, error) { return Open(env, s) },
}

// read reads the recipe of a connection, and where its API is.
func read(s connect.Settings) (*Recipe, *url.URL, error) {
	r, err := Parse([]byte(s["recipe"]))
	if err != nil {
		return nil, nil, problem.In("recipe", "%s", err)
	}
	base, err := origin(r.Base)
	if s["address"] != "" {
		if base, err = origin(s["address"]); err != nil {
			return nil, nil, problem.In("address", "%s", err)
		}
	}
	return r, base, err
}

// leads returns where a recipe has secrets sent to: its API, and where tokens are given.
func leads(s connect.Settings) string {
	r, base, err := read(s)
	if err != nil {
		return ""
	}
	if r.SignIn.OAuth == nil {
		return base.String()
	}
	return base.String() + "\n" + r.SignIn.OAuth.Token
}

// Place is a contact platform.
type Place struct {
	recipe *Recipe
	base   *url.URL
	web    *connect.Web
	auth   *auth
}

// Open opens a contact platform.
func Open(env connect.Env, s connect.Settings) (*Place, error) {
	r, base, err := read(s)
	if err != nil {
		return nil, err
	}
	perSecond := r.PerSecond
	if perSecond == 0 {
		perSecond = 5
	}
	p := &Place{recipe: r, base: base, web: env.NewWeb(fmt.Sprintf("%d %s", env.Workspace, base), perSecond)}
	p.signInBy(env, s)
	return p, nil
}

// Close ends its connections.
func (p *Place) Close() error { p.web.HTTP.CloseIdleConnections(); return nil }

// Takes returns the acts that the recipe describes.
func (p *Place) Takes() []connect.Act { return p.recipe.Takes() }

// Test signs in.
func (p *Place) Test(ctx context.Context) (string, error) {
	a, err := p.call(ctx, p.recipe.Test.Call, nil)
	if err != nil {
		return "", err
	}
	if name := text(at(a.value, p.recipe.Test.Account)); name != "" && p.recipe.Test.Account != "" {
		return fmt.Sprintf("Signed in at %s as %.100s.", p.recipe.Name, connect.Plain(name)), nil
	}
	return fmt.Sprintf("Signed in at %s.", p.recipe.Name), nil
}

// mostCollections is how many are listed.
const mostCollections = 10_000

// Collections lists those of every kind.
func (p *Place) Collections(ctx context.Context) (out []connect.Collection, err error) {
	for _, c := range p.recipe.Collections {
		err := p.pages(ctx, c.List, c.Items, c.Paging, nil, "", func(found []any, _ string) error {
			for _, v := range found {
				id := text(at(v, c.ID))
				if id == "" {
					return connect.Troublef("A %s of the answer has no ID at %q; it has %s. Check the recipe.", c.Kind, c.ID, entries(v))
				}
				one := connect.Collection{ID: c.Kind + "/" + id, Name: text(at(v, c.Name)), Kind: c.Kind, Contacts: -1}
				if n, err := strconv.ParseInt(text(at(v, c.Size)), 10, 64); err == nil && c.Size != "" {
					one.Contacts = n
				}
				out = append(out, one)
			}
			if len(out) > mostCollections {
				return connect.Troublef("%s has more than %d collections of the kind %s.", p.base.Host, mostCollections, c.Kind)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// of splits the ID of a collection.
func (p *Place) of(collection string) (Collections, holes, error) {
	kind, id, _ := strings.Cut(collection, "/")
	i := slices.IndexFunc(p.recipe.Collections, func(c Collections) bool { return c.Kind == kind })
	if i < 0 || id == "" {
		return Collections{}, nil, connect.Troublef("The recipe has no collections of the kind %q any more.", kind)
	}
	return p.recipe.Collections[i], holes{"collection": id}, nil
}

// Contacts pages through a collection.
func (p *Place) Contacts(ctx context.Context, collection, from string, each func(connect.Page) error) error {
	c, h, err := p.of(collection)
	if err != nil {
		return err
	}
	return p.pages(ctx, c.Contacts.Call, c.Contacts.Items, c.Contacts.Paging, h, from, func(found []any, next string) error {
		page := connect.Page{Next: next, Contacts: make([]connect.Contact, 0, len(found))}
		for i, v := range found {
			one, err := p.recipe.Contact.contact(v, i)
			if err != nil {
				return err
			}
			page.Contacts = append(page.Contacts, one)
		}
		return each(page)
	})
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func plus(mark string, n int) string {
	at, err := strconv.Atoi(mark)
	if err != nil {
		return ""
	}
	return strconv.Itoa(at + n)
}

// CollectionKind is what a collection that is made is called here.
func (p *Place) CollectionKind() string {
	if n := p.recipe.Write.Collection; n != nil {
		return n.Kind
	}
	return "collection"
}
