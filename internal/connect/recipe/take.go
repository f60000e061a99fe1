package recipe

import (
	"context"
	"slices"
	"strings"

	"varnet/internal/connect"
)

// holesOf are what placeholders of an order stand for.
func (p *Place) holesOf(o connect.Order) holes {
	_, id, _ := strings.Cut(o.Collection, "/")
	_, target, _ := strings.Cut(o.Target, "/")
	return holes{"collection": id, "name": o.Name, "target": target}
}

func (p *Place) change(o connect.Order) (*Change, error) {
	c := p.recipe.changes()[o.Act]
	if c == nil {
		return nil, connect.Troublef("The recipe does not say how to do that (%s).", o.Act)
	}
	return c, nil
}

// AtOnce is how many contacts one call may be for.
func (p *Place) AtOnce(o connect.Order) int {
	c := p.recipe.changes()[o.Act]
	if c == nil || p.recipe.Read == nil {
		return 1
	}
	return max(1, c.Most, p.recipe.Read.Most)
}

// Begin makes the new collection. One of the same name that is there is taken for the one that an
// attempt before made, if it is empty.
func (p *Place) Begin(ctx context.Context, o connect.Order) (string, error) {
	n := p.recipe.Write.Collection
	if o.Act != connect.Collect {
		return "", nil
	}
	if n == nil {
		_, err := p.change(o)
		return "", err
	}
	there, err := p.Collections(ctx)
	if err != nil {
		return "", err
	}
	for _, c := range there {
		if c.Kind != n.Kind || c.Name != o.Name {
			continue
		}
		if c.Contacts != 0 && !o.Refresh {
			return "", connect.Troublef("There is a %s “%s” already, with contacts in it. Choose another name.", n.Kind, o.Name)
		}
		return c.ID, nil
	}
	a, err := p.call(ctx, n.Create, p.holesOf(o))
	if err != nil {
		return "", err
	}
	id := text(at(a.value, n.ID))
	if id == "" {
		return "", connect.Troublef("The answer to the call that makes the collection has no ID at %q; it has %s. Check the recipe.", n.ID, entries(a.value))
	}
	return n.Kind + "/" + id, nil
}

// Discard deletes the collection that Begin made.
func (p *Place) Discard(ctx context.Context, o connect.Order) error {
	n := p.recipe.Write.Collection
	if o.Act != connect.Collect || n == nil {
		return nil
	}
	if n.Discard == nil {
		return connect.Troublef("The recipe does not say how to delete a %s; delete “%s” there by hand.", n.Kind, o.Name)
	}
	if _, err := p.call(ctx, *n.Discard, p.holesOf(o)); err != nil && !gone(err) {
		return err
	}
	return nil
}

// Now reads contacts as they are.
func (p *Place) Now(ctx context.Context, o connect.Order, all []connect.Item) ([]connect.State, error) {
	change, err := p.change(o)
	if err != nil {
		return nil, err
	}
	out := make([]connect.State, 0, len(all))
	for batch := range slices.Chunk(all, max(1, p.recipe.Read.Most)) {
		states, err := p.read(ctx, o, change, batch)
		if err != nil {
			return nil, err
		}
		for _, it := range batch {
			out = append(out, states[it.Key])
		}
	}
	return out, nil
}

func (p *Place) read(ctx context.Context, o connect.Order, change *Change, batch []connect.Item) (map[string]connect.State, error) {
	r := p.recipe.Read
	a, err := p.call(ctx, r.Call, p.holesOf(o), batch...)
	if gone(err) && r.Most <= 1 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	found, err := items(a.value, r.Items)
	if err != nil {
		return nil, err
	}
	out := map[string]connect.State{}
	for i, v := range found {
		c, err := p.recipe.Contact.contact(v, i)
		if err != nil {
			return nil, err
		}
		out[c.Key] = p.state(o, change, c, v)
	}
	return out, nil
}

// state is how a contact stands to an order. A field that is no plain value is left: what it holds could not be
// put back.
func (p *Place) state(o connect.Order, change *Change, c connect.Contact, v any) connect.State {
	s := connect.State{Found: true, Addresses: c.Addresses}
	if o.Act != connect.SetField {
		s.Value = present(o, change, v)
		return s
	}
	field := p.recipe.Contact.field(v, o.Name)
	s.Value = text(field)
	switch f := field.(type) {
	case []any:
		s.Leave = connect.SeveralValues(o.Name, len(f))
	case map[string]any:
		s.Leave = "its " + o.Name + " is an object, which would be lost"
	}
	return s
}

// gone reports whether an answer said that there is nothing.
func gone(err error) bool { return connect.StatusOf(err) == 404 || connect.StatusOf(err) == 410 }

// present is whether a contact has what an order changes.
func present(o connect.Order, change *Change, v any) string {
	if change.At == "" {
		return ""
	}
	switch v := at(v, change.At).(type) {
	case []any:
		if slices.ContainsFunc(v, func(e any) bool { return text(e) == o.Name }) {
			return connect.Present
		}
	default:
		if t := text(v); t != "" && t != "false" && t != "0" {
			return connect.Present
		}
	}
	return ""
}

// Write makes the calls of a change; contacts with a value and those without go in calls of
// their own, unless a field is set.
func (p *Place) Write(ctx context.Context, o connect.Order, all []connect.Item) ([]error, error) {
	change, err := p.change(o)
	if err != nil {
		return nil, err
	}
	out := make([]error, len(all))
	var set, unset []int
	for i, it := range all {
		if it.Value == "" && o.Act != connect.SetField {
			unset = append(unset, i)
			continue
		}
		set = append(set, i)
	}
	if err := p.make(ctx, o, change, &change.Set, all, set, out); err != nil {
		return out, err
	}
	if len(unset) > 0 && change.Unset == nil {
		for _, i := range unset {
			out[i] = &connect.Skipped{Why: "the recipe does not say how to take that back"}
		}
		return out, nil
	}
	return out, p.make(ctx, o, change, change.Unset, all, unset, out)
}

// batches cuts contacts into those of a call: as many as it takes, and of one value where it has room for one.
func batches(change *Change, c *Call, all []connect.Item, some []int) (out [][]int) {
	alike := [][]int{some}
	if c.oneValue() {
		by := map[string][]int{}
		for _, i := range some {
			by[all[i].Value] = append(by[all[i].Value], i)
		}
		alike = alike[:0]
		for _, value := range sorted(by) {
			alike = append(alike, by[value])
		}
	}
	for _, some := range alike {
		out = slices.AppendSeq(out, slices.Chunk(some, max(1, change.Most)))
	}
	return out
}

// make makes a call for some of the contacts, as many at a time as it takes.
func (p *Place) make(ctx context.Context, o connect.Order, change *Change, c *Call, all []connect.Item, some []int, out []error) error {
	if len(some) == 0 {
		return nil
	}
	for _, batch := range batches(change, c, all, some) {
		var of []connect.Item
		for _, i := range batch {
			of = append(of, all[i])
		}
		a, err := p.call(ctx, *c, p.holesOf(o), of...)
		switch {
		case err == nil:
			refused(change.Failed, a.value, all, batch, out)
		case connect.Passes(err) || connect.StatusOf(err) == 0 || connect.IsBroken(err):
			return err // it is not about these contacts
		case len(batch) == 1:
			out[batch[0]] = err
		default: // one of them is not taken: which?
			if err := p.apart(ctx, o, c, all, batch, out); err != nil {
				return err
			}
		}
	}
	return nil
}

// apart makes a call for each of some contacts, so that one that is refused does not keep the
// others back.
func (p *Place) apart(ctx context.Context, o connect.Order, c *Call, all []connect.Item, batch []int, out []error) error {
	for _, i := range batch {
		_, err := p.call(ctx, *c, p.holesOf(o), all[i])
		if err != nil && (connect.Passes(err) || connect.StatusOf(err) == 0 || connect.IsBroken(err)) {
			return err
		}
		out[i] = err
	}
	return nil
}

// refused notes what the answer says of contacts that were refused.
func refused(f *Failed, v any, all []connect.Item, batch []int, out []error) {
	if f == nil {
		return
	}
	refused, _ := at(v, f.Items).([]any)
	for _, e := range refused {
		key := text(at(e, f.Key))
		for _, i := range batch {
			if all[i].Key == key {
				out[i] = connect.Troublef("%.300s", connect.Plain(text(at(e, f.Words))))
			}
		}
	}
}

// Members pages through the collection that an order is for.
func (p *Place) Members(ctx context.Context, o connect.Order) (out []connect.Item, err error) {
	err = p.Contacts(ctx, o.Target, "", func(page connect.Page) error {
		for _, c := range page.Contacts {
			out = append(out, connect.Item{Key: c.Key, Addresses: c.Addresses})
		}
		return nil
	})
	return out, err
}
