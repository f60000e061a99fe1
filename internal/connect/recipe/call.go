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

// call makes a call of the recipe for some contacts.
func (p *Place) call(ctx context.Context, c Call, h holes, items ...connect.Item) (any, http.Header, error) {
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
			return nil, nil, err
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
func (p *Place) ask(ctx context.Context, method, address string, body []byte) (any, http.Header, error) {
	header := http.Header{"Accept": {"application/json"}}
	if body != nil {
		header.Set("Content-Type", "application/json")
	}
	a, err := p.web.Do(ctx, method, address, header, body, http.StatusOK, http.StatusCreated, http.StatusAccepted, http.StatusNoContent, http.StatusMultiStatus)
	if err != nil || len(bytes.TrimSpace(a.Body)) == 0 {
		return nil, a.Header, err
	}
	d := json.NewDecoder(bytes.NewReader(a.Body))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		if strings.HasPrefix(string(bytes.TrimSpace(a.Body)), "<") {
			return nil, a.Header, connect.Troublef("%s answered with a web page and not with JSON. Check the address of the API.", p.base.Host)
		}
		return nil, a.Header, connect.Troublef("%s answered with what is not JSON: %v.", p.base.Host, err)
	}
	return v, a.Header, nil
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
	for mark := from; ; {
		v, header, err := p.page(ctx, c, how, h, mark)
		if err != nil {
			return err
		}
		found, err := list(v, itemsAt)
		if err != nil {
			return err
		}
		next, err := p.next(how, v, header, mark, len(found))
		if err != nil {
			return err
		}
		if err := each(found, next); err != nil || next == "" {
			return err
		}
		mark = next
	}
}

// page asks for the page at a mark.
func (p *Place) page(ctx context.Context, c Call, how *Paging, h holes, mark string) (any, http.Header, error) {
	if mark == "" && how != nil && how.Page != "" {
		mark = "1"
	}
	if mark == "" || how == nil {
		return p.call(ctx, c, h)
	}
	param := cmp.Or(how.Param, how.Page, how.Offset)
	if param == "" {
		address, err := p.within(mark)
		if err != nil {
			return nil, nil, err
		}
		return p.ask(ctx, http.MethodGet, address, nil)
	}
	c.Query = with(c.Query, param, mark)
	return p.call(ctx, c, h)
}

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
func (p *Place) next(how *Paging, v any, header http.Header, mark string, found int) (string, error) {
	next := ""
	switch {
	case how == nil:
	case how.Next != "":
		next = text(at(v, how.Next))
	case how.Link:
		next = linked(header)
	case found == 0:
	case how.Page != "":
		next = plus(cmp.Or(mark, "1"), 1)
	case how.Offset != "":
		next = plus(cmp.Or(mark, "0"), found)
	}
	if next != "" && next == mark {
		return "", connect.Troublef("%s sends the same page again and again. Check the paging of the recipe.", p.base.Host)
	}
	return next, nil
}

// within returns the address of a page, which must be where the sign-in is for.
func (p *Place) within(mark string) (string, error) {
	u, err := p.base.Parse(mark)
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
