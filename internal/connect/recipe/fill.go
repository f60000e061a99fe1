package recipe

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"varnet/internal/connect"
)

// holes are what placeholders stand for.
type holes map[string]string

func (h holes) with(item connect.Item) holes {
	out := holes{"key": item.Key, "value": item.Value}
	if len(item.Addresses) > 0 {
		out["address"] = item.Addresses[0]
	}
	for k, v := range h {
		out[k] = v
	}
	return out
}

func (h holes) fill(text string, escape func(string) string) string {
	if !strings.Contains(text, "{") {
		return text
	}
	pairs := make([]string, 0, 2*len(h))
	for k, v := range h {
		pairs = append(pairs, "{"+k+"}", escape(v))
	}
	return strings.NewReplacer(pairs...).Replace(text)
}

func asIs(text string) string { return text }

// path fills in a path; what is put in is one segment of it, whatever it holds.
func (h holes) path(text string) string {
	return h.fill(text, func(v string) string {
		if v == "." || v == ".." { // segments that lead elsewhere
			return strings.ReplaceAll(v, ".", "%2E")
		}
		return url.PathEscape(v)
	})
}

// ofContacts are the placeholders for which an array is repeated.
var ofContacts = []string{"{key}", "{address}"}

// body fills in a body for some contacts.
func (h holes) body(template any, items []connect.Item) any {
	first := h
	if len(items) > 0 {
		first = h.with(items[0])
	}
	return first.tree(template, func(v any) (any, bool) {
		switch v := v.(type) {
		case string:
			if v == "{keys}" {
				keys := make([]any, len(items))
				for i, it := range items {
					keys[i] = it.Key
				}
				return keys, true
			}
		case []any:
			if repeats(v) {
				out := make([]any, len(items))
				for i, it := range items {
					out[i] = h.with(it).tree(v[0], nil)
				}
				return out, true
			}
		}
		return nil, false
	})
}

// repeats reports whether an array of a template is repeated for each contact.
func repeats(v []any) bool { return len(v) == 1 && names(v[0], ofContacts...) }

// names reports whether one of some placeholders is somewhere in a template.
func names(v any, placeholders ...string) bool {
	switch v := v.(type) {
	case string:
		return slices.ContainsFunc(placeholders, func(p string) bool { return strings.Contains(v, p) })
	case []any:
		return slices.ContainsFunc(v, func(e any) bool { return names(e, placeholders...) })
	case map[string]any:
		for k, e := range v {
			if names(k, placeholders...) || names(e, placeholders...) {
				return true
			}
		}
	}
	return false
}

// common returns what of a body is there once, for however many contacts the call is.
func common(v any) any {
	switch v := v.(type) {
	case []any:
		if repeats(v) {
			return nil
		}
		out := make([]any, len(v))
		for i := range v {
			out[i] = common(v[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, e := range v {
			out[k] = common(e)
		}
		return out
	}
	return v
}

// oneValue reports whether a call has room for the value of one contact, or of those that get the same.
func (c *Call) oneValue() bool { return c.names("{value}") != "" }

// names returns where a call has one of some placeholders for one contact, however many it is for; "": nowhere.
func (c *Call) names(placeholders ...string) string {
	if names(c.Path, placeholders...) {
		return "path"
	}
	for _, name := range sorted(c.Query) {
		if names(c.Query[name], placeholders...) {
			return "query." + name
		}
	}
	if names(common(c.Body), placeholders...) {
		return "body"
	}
	return ""
}

// tree fills in the texts of a template; special replaces whole parts.
func (h holes) tree(v any, special func(any) (any, bool)) any {
	if special != nil {
		if out, ok := special(v); ok {
			return out
		}
	}
	switch v := v.(type) {
	case string:
		return h.fill(v, asIs)
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = h.tree(v[i], special)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, e := range v {
			out[h.fill(k, asIs)] = h.tree(e, special)
		}
		return out
	}
	return v
}

// at returns what stands at a path of an answer; nil where there is nothing.
func at(v any, path string) any {
	if path == "" {
		return v
	}
	if m, ok := v.(map[string]any); ok { // a name may have dots of its own
		if e, ok := m[path]; ok {
			return e
		}
	}
	name, rest, _ := strings.Cut(path, ".")
	switch v := v.(type) {
	case map[string]any:
		return at(v[name], rest)
	case []any:
		if i, err := strconv.Atoi(name); err == nil && i >= 0 && i < len(v) {
			return at(v[i], rest)
		}
	}
	return nil
}

// text is a value as a cell has it.
func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case json.Number:
		return v.String()
	case bool:
		return strconv.FormatBool(v)
	case []any:
		parts := make([]string, len(v))
		for i, e := range v {
			parts[i] = text(e)
		}
		return strings.Join(parts, "; ")
	}
	out, _ := json.Marshal(v)
	return string(out)
}

// list is a list at a path of an answer.
func list(v any, path string) ([]any, error) {
	switch l := at(v, path).(type) {
	case []any:
		return l, nil
	case nil:
		return nil, connect.Troublef("The answer has no list at %q; it has %s. Check the recipe.", path, entries(v))
	default:
		return nil, connect.Troublef("At %q of the answer there is %s and no list. Check the recipe.", path, articled(kindOf(l)))
	}
}

// entries names what an answer has.
func entries(v any) string {
	m, ok := v.(map[string]any)
	if !ok {
		return articled(kindOf(v))
	}
	var names []string
	for k := range m {
		if names = append(names, fmt.Sprintf("%.40q", k)); len(names) == 8 {
			break
		}
	}
	return strings.Join(names, ", ")
}

// contact reads a contact as the recipe says.
func (c Contact) contact(v any, index int) (connect.Contact, error) {
	if kindOf(v) != "object" {
		return connect.Contact{}, connect.Troublef("The contact %d of an answer is %s and no object. Check the recipe.", index+1, articled(kindOf(v)))
	}
	out := connect.Contact{Key: text(at(v, c.Key))}
	if out.Key == "" {
		return out, connect.Troublef("The contact %d of an answer has no key at %q; it has %s. Check contact.key of the recipe.", index+1, c.Key, entries(v))
	}
	for _, path := range c.Addresses {
		switch a := at(v, path).(type) {
		case []any:
			for _, e := range a {
				if kindOf(e) != "string" {
					return out, connect.Troublef("The contact %.60s has %s among its addresses at %q. Check contact.addresses of the recipe.", out.Key, articled(kindOf(e)), path)
				}
				out.Addresses = append(out.Addresses, e.(string))
			}
		case string:
			out.Addresses = append(out.Addresses, a)
		case nil:
			out.Addresses = append(out.Addresses, "")
		default:
			return out, connect.Troublef("The contact %.60s has %s as its address at %q. Check contact.addresses of the recipe.", out.Key, articled(kindOf(a)), path)
		}
	}
	out.Cells = c.cells(v)
	return out, out.Hold()
}

// cells are the fields of a contact: those that are named, in the order of their names, and
// then all others.
func (c Contact) cells(v any) (out []connect.Cell) {
	for _, name := range sorted(c.Fields) {
		out = append(out, connect.Cell{Name: name, Value: text(at(v, c.Fields[name]))})
	}
	more, _ := at(v, c.More).(map[string]any)
	if c.More == "" {
		return out
	}
	for _, name := range sorted(more) {
		out = append(out, connect.Cell{Name: name, Value: text(more[name])})
	}
	return out
}

// field is a field of a contact by the name of its column.
func (c Contact) field(v any, name string) any {
	if path, ok := c.Fields[name]; ok {
		return at(v, path)
	}
	if c.More != "" {
		if more, ok := at(v, c.More).(map[string]any); ok {
			return more[name]
		}
	}
	return at(v, name)
}
