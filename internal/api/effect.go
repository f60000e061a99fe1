package api

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/catalogue"
	"varnet/core/say"
	"varnet/internal/contract"
)

// tryCatalogue tells how many addresses of the workspace's lists entries would
// tell otherwise.
func (a *API) tryCatalogue(ctx context.Context, in *struct{ Body contract.CatalogueEntries }) (*struct{ Body contract.CatalogueEffect }, error) {
	w := workspace(ctx).ID
	entries, err := normalEntries(in.Body.Entries)
	if err != nil {
		return nil, err
	}
	own, err := a.store.AllCatalogueEntries(ctx, w)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	now := catalogue.With(own)
	entries = slices.DeleteFunc(entries, func(e catalogue.Entry) bool { return now.Has(e.Kind, e.Name) != e.Except })
	out := contract.CatalogueEffect{Lists: []contract.AffectedList{}}
	found, err := a.store.AddressesLike(ctx, w, entries)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	sum := int64(0)
	for _, l := range found {
		out.Lists = append(out.Lists, contract.AffectedList(l))
		sum += l.Addresses
	}
	out.Sentence = effectSentence(len(in.Body.Entries), len(entries), sum, len(found))
	return &struct{ Body contract.CatalogueEffect }{out}, nil
}

func normalEntries(given []contract.CatalogueEntry) (entries []catalogue.Entry, err error) {
	for _, e := range given {
		name, err := catalogue.Normal(catalogue.Kind(e.Kind), e.Name)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		entries = append(entries, catalogue.Entry{Kind: catalogue.Kind(e.Kind), Name: name, Except: e.Except})
	}
	return entries, nil
}

func effectSentence(given, new int, addresses int64, lists int) string {
	var s []string
	if known := given - new; known > 0 {
		s = append(s, fmt.Sprintf("%s of %d changes nothing: it is so already.", say.Plural(int64(known), "entry", "entries"), given))
	}
	switch {
	case new == 0:
	case addresses == 0:
		s = append(s, "No address of your lists is concerned.")
	default:
		s = append(s, fmt.Sprintf("%s in %s would be told otherwise. Runs that were started before keep what they found; a new run follows the change.",
			say.Addresses(addresses), say.Plural(int64(lists), "list", "lists")))
	}
	return strings.Join(s, " ")
}
