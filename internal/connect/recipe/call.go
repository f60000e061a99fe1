package recipe

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strings"

	"varnet/internal/connect"
)

// answer is what a platform answered, and to which address.
type answer struct {
	address string
	header  http.Header
	value   any
}

// call makes a call of the recipe for some contacts.
func (p *Place) call(ctx context.Context, c Call, h holes, items ...connect.Item) (answer, error) {
	own := h
	if len(items) > 0 {
		own = h.with(items[0])
	}
	address := strings.TrimSuffix(p.base.String(), "/") + "/" + strings.TrimPrefix(own.path(c.Path), "/")
	if query := own.query(c, items); query != "" {
		sep := "?"
		if strings.Contains(address, "?") {
			sep = "&"
		}
		address += sep + query
	}
	var body []byte
	if c.Body != nil {
		var err error
		if body, err = json.Marshal(h.body(c.Body, items)); err != nil {
			return answer{}, err
		}
	}
	return p.ask(ctx, cmp.Or(c.Method, http.MethodGet), address, body)
}

func (h holes) query(c Call, items []connect.Item) string {
	q := url.Values{}
	for k, v := range c.Query {
		if v == "{keys}" {
			for _, it := range items {
				q.Add(k, it.Key)
			}
			continue
		}
		q.Set(k, h.fill(v, asIs))
	}
	return q.Encode()
}

// ask makes a request, and reads the JSON of the answer.
func (p *Place) ask(ctx context.Context, method, address string, body []byte) (answer, error) {
	header := http.Header{"Accept": {"application/json"}}
	if body != nil {
		header.Set("Content-Type", "application/json")
	}
	a, err := p.web.Do(ctx, method, address, header, body, http.StatusOK, http.StatusCreated, http.StatusAccepted, http.StatusNoContent, http.StatusMultiStatus)
	out := answer{address: address, header: a.Header}
	if err != nil || len(bytes.TrimSpace(a.Body)) == 0 {
		return out, err
	}
	if err := decode(a.Body, &out.value); err != nil {
		if strings.HasPrefix(string(bytes.TrimSpace(a.Body)), "<") {
			return out, connect.Troublef("%s answered with a web page and not with JSON. Check the address of the API.", p.base.Host)
		}
		return out, connect.Troublef("%s answered with what is not JSON: %v.", p.base.Host, err)
	}
	return out, nil
}

// decode reads JSON; numbers stay as they are written.
func decode(text []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	return d.Decode(into)
}

// items are those of an answer; an answer without a path is the list, or the one item.
func items(v any, path string) ([]any, error) {
	if path == "" && kindOf(v) == "object" {
		return []any{v}, nil
	}
	return list(v, path)
}

// pages calls each with the items of every page, from a mark on, and the mark of the next one.
func (p *Place) pages(ctx context.Context, c Call, itemsAt string, how *Paging, h holes, from string, each func(found []any, next string) error) error {
	seen := map[string]bool{}
	for mark := from; ; {
		seen[mark] = true
		a, err := p.page(ctx, c, how, h, mark)
		if err != nil {
			return err
		}
		found, err := list(a.value, itemsAt)
		if err != nil {
			return err
		}
		next, err := p.next(how, a, mark, len(found))
		if err != nil {
			return err
		}
		if next != "" && seen[next] {
			return connect.Troublef("%s sends the same page again and again. Check the paging of the recipe.", p.base.Host)
		}
		if err := each(found, next); err != nil || next == "" {
			return err
		}
		mark = next
	}
}

// page asks for the page at a mark.
func (p *Place) page(ctx context.Context, c Call, how *Paging, h holes, mark string) (answer, error) {
	if mark == "" && how != nil && how.Page != "" {
		mark = "1"
	}
	if mark == "" || how == nil {
		return p.call(ctx, c, h)
	}
	param := how.parameter()
	if param == "" {
		address, err := p.within(mark, p.base.String())
		if err != nil {
			return answer{}, err
		}
		return p.ask(ctx, http.MethodGet, address, nil)
	}
	c.Query = with(c.Query, param, mark)
	return p.call(ctx, c, h)
}

// parameter is the one of the query that names a page; "": it is named by its address.
func (how *Paging) parameter() string { return cmp.Or(how.Param, how.Page, how.Offset) }

func with(query map[string]string, name, value string) map[string]string {
	out := map[string]string{name: value}
	for k, v := range query {
		if k != name {
			out[k] = v
		}
	}
	return out
}

// next is the mark of the page after one; "" where there is none.
func (p *Place) next(how *Paging, a answer, mark string, found int) (string, error) {
	next := ""
	switch {
	case how == nil:
	case how.Next != "":
		if v := at(a.value, how.Next); v != false { // which some say for none
			next = text(v)
		}
	case how.Link:
		next = linked(a.header)
	case found == 0:
	case how.Page != "":
		next = plus(cmp.Or(mark, "1"), 1)
	case how.Offset != "":
		next = plus(cmp.Or(mark, "0"), found)
	}
	if next == "" || how.parameter() != "" {
		return next, nil
	}
	return p.within(next, a.address)
}

// within returns the address of a page as it is named on another, which must be where the sign-in is for.
func (p *Place) within(mark, on string) (string, error) {
	from, err := url.Parse(on)
	if err != nil {
		return "", err
	}
	u, err := from.Parse(mark)
	if err != nil || u.Scheme != p.base.Scheme || u.Host != p.base.Host {
		return "", connect.Troublef("%s names a next page at another address, %.80q, to which the sign-in is not sent.", p.base.Host, connect.Plain(mark))
	}
	return u.String(), nil
}

// linked is the target of a Link with the relation next (RFC 8288, 3).
func linked(h http.Header) string {
	for _, line := range h.Values("Link") {
		for link := range strings.SplitSeq(line, ",") {
			target, params, ok := strings.Cut(strings.TrimSpace(link), ">")
			if ok && strings.HasPrefix(target, "<") && strings.Contains(strings.ReplaceAll(params, `"`, ""), "rel=next") {
				return target[1:]
			}
		}
	}
	return ""
}
