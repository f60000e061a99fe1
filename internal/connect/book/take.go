package book

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"varnet/internal/connect"
)

// AtOnce implements connect.Taker.
func (p *place) AtOnce(connect.Order) int { return atOnce }

// Begin makes the second book.
func (p *place) Begin(ctx context.Context, o connect.Order) (string, error) {
	if o.Act != connect.Collect {
		return "", nil
	}
	all, err := p.Collections(ctx)
	if err != nil {
		return "", err
	}
	for _, c := range all {
		switch {
		case c.Name != o.Name:
		case c.Contacts != 0 && !o.Refresh:
			return "", connect.Troublef("There is an address book “%s” already, with cards in it. Choose another name.", o.Name)
		default:
			return c.ID, nil
		}
	}
	home, err := p.home(ctx)
	if err != nil {
		return "", err
	}
	at := free(strings.TrimSuffix(home, "/")+"/"+slug(o.Name), all)
	return at, p.makeBook(ctx, at, o.Name)
}

// free is a path for a book that none has yet: other names may have the same letters in a path, or none.
func free(path string, there []connect.Collection) string {
	for n := 1; ; n++ {
		at := path + "/"
		if n > 1 {
			at = fmt.Sprintf("%s-%d/", path, n)
		}
		if !slices.ContainsFunc(there, func(c connect.Collection) bool { return strings.TrimSuffix(c.ID, "/")+"/" == at }) {
			return at
		}
	}
}

// slug is a name as a part of a path.
func slug(name string) string {
	s := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, strings.ToLower(name)), "-")
	if s == "" {
		return "book"
	}
	return s
}

// Discard deletes the second book.
func (p *place) Discard(ctx context.Context, o connect.Order) error {
	if o.Act != connect.Collect || o.Target == "" {
		return nil
	}
	return p.delete(ctx, o.Target)
}

// Now reads cards as they are.
func (p *place) Now(ctx context.Context, o connect.Order, items []connect.Item) ([]connect.State, error) {
	found, err := p.found(ctx, o, items)
	if err != nil {
		return nil, err
	}
	p.read = found
	out := make([]connect.State, len(items))
	for i, it := range items {
		c, ok := found[it.Key]
		if !ok {
			continue
		}
		out[i] = connect.State{Found: true, Addresses: contact(c.Path, c.text).Addresses, Version: c.Version}
		switch o.Act {
		case connect.SetField:
			out[i].Value = valueOf(c.text, property(o.Name))
		case connect.Tag:
			if slices.Contains(categories(c.text), o.Name) {
				out[i].Value = connect.Present
			}
		}
	}
	return out, nil
}

func (p *place) found(ctx context.Context, o connect.Order, items []connect.Item) (map[string]card, error) {
	out := map[string]card{}
	for batch := range slices.Chunk(items, atOnce) {
		var paths []string
		for _, it := range batch {
			paths = append(paths, it.Key)
		}
		cards, err := p.cards(ctx, o.Collection, paths)
		if err != nil {
			return nil, err
		}
		for _, c := range cards {
			out[c.Path] = c
		}
	}
	return out, nil
}

// Write changes card by card, each only if it is still the one that Now read.
func (p *place) Write(ctx context.Context, o connect.Order, items []connect.Item) ([]error, error) {
	out := make([]error, len(items))
	for i, it := range items {
		c, ok := p.read[it.Key]
		if o.Act == connect.Collect && it.Value == "" { // a copy goes, whatever became of the card
			c, ok = card{Path: it.Key}, true
		}
		if !ok || it.Version != "" && c.Version != "" && c.Version != it.Version {
			out[i] = &connect.Skipped{Why: "it was changed at this moment"}
			continue
		}
		err := p.one(ctx, o, it, c)
		if connect.Passes(err) || connect.IsBroken(err) || err != nil && ctx.Err() != nil {
			return out, err
		}
		out[i] = err
	}
	return out, nil
}

func (p *place) one(ctx context.Context, o connect.Order, it connect.Item, c card) error {
	text := c.text
	switch o.Act {
	case connect.SetField:
		text = withValue(text, property(o.Name), it.Value)
	case connect.Tag:
		text = withCategory(text, o.Name, it.Value == connect.Present)
	case connect.Collect:
		copied := strings.TrimSuffix(o.Target, "/") + "/" + path.Base(c.Path)
		if it.Value == "" {
			return p.delete(ctx, copied)
		}
		return p.put(ctx, copied, "", c.text)
	}
	if text == c.text {
		return nil
	}
	return p.put(ctx, c.Path, c.Version, text)
}

// Members returns the cards of the book that an order is for, by the paths of those that they are
// copies of.
func (p *place) Members(ctx context.Context, o connect.Order) (out []connect.Item, err error) {
	paths, err := p.paths(ctx, o.Target)
	for _, at := range paths {
		out = append(out, connect.Item{Key: strings.TrimSuffix(o.Collection, "/") + "/" + path.Base(at)})
	}
	return out, err
}
