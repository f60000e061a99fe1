package recipe

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// node is the form of a part of a recipe, made from its type.
type node struct {
	kind     string // object, array, string, integer, number, boolean, any
	doc      string
	want     bool
	names    []string // of an object, in order
	fields   map[string]*node
	each     *node // of an array, or of an object with any names
	nullable bool
}

var form = nodeOf(reflect.TypeFor[Recipe]())

func nodeOf(t reflect.Type) *node {
	switch t.Kind() {
	case reflect.Pointer:
		n := nodeOf(t.Elem())
		n.nullable = true
		return n
	case reflect.String:
		return &node{kind: "string"}
	case reflect.Int:
		return &node{kind: "integer"}
	case reflect.Float64:
		return &node{kind: "number"}
	case reflect.Bool:
		return &node{kind: "boolean"}
	case reflect.Slice:
		return &node{kind: "array", each: nodeOf(t.Elem())}
	case reflect.Map:
		return &node{kind: "object", each: nodeOf(t.Elem())}
	case reflect.Struct:
		n := &node{kind: "object", fields: map[string]*node{}}
		for _, f := range reflect.VisibleFields(t) {
			if f.Anonymous {
				continue
			}
			field := nodeOf(f.Type)
			field.doc, field.want = f.Tag.Get("doc"), f.Tag.Get("want") == "yes"
			name := f.Tag.Get("json")
			n.names, n.fields[name] = append(n.names, name), field
		}
		return n
	}
	return &node{kind: "any"}
}

// check reports where a value is not of the form.
func (n *node) check(at string, v any) error {
	got := kindOf(v)
	switch {
	case n.kind == "any", n.nullable && v == nil:
		return nil
	case got == "number" && n.kind == "integer":
		if _, err := v.(json.Number).Int64(); err != nil {
			return fmt.Errorf("%s: %s is not a whole number", at, v)
		}
		return nil
	case got != n.kind:
		return fmt.Errorf("%s: this is %s, and %s is wanted", at, articled(got), articled(n.kind))
	}
	switch v := v.(type) {
	case []any:
		for i, e := range v {
			if err := n.each.check(fmt.Sprintf("%s[%d]", at, i), e); err != nil {
				return err
			}
		}
	case map[string]any:
		return n.checkObject(at, v)
	}
	return nil
}

func (n *node) checkObject(at string, v map[string]any) error {
	for name, e := range v {
		field := n.each
		if n.fields != nil {
			field = n.fields[name]
		}
		if field == nil {
			return fmt.Errorf("%s.%s: there is no such entry; there are %s", at, name, strings.Join(n.names, ", "))
		}
		if err := field.check(at+"."+name, e); err != nil {
			return err
		}
	}
	for _, name := range n.names {
		if e, ok := v[name]; n.fields[name].want && (!ok || e == "") {
			return fmt.Errorf("%s.%s: it is missing. %s", at, name, n.fields[name].doc)
		}
	}
	return nil
}

func kindOf(v any) string {
	switch v.(type) {
	case map[string]any:
		return "object"
	case []any:
		return "array"
	case string:
		return "string"
	case json.Number:
		return "number"
	case bool:
		return "boolean"
	}
	return "null"
}

func articled(kind string) string {
	switch kind {
	case "null":
		return "nothing (null)"
	case "string":
		return "a text"
	case "boolean":
		return "true or false"
	case "number":
		return "a number"
	case "integer":
		return "a whole number"
	case "array":
		return "a list"
	}
	return "an object"
}

// Schema returns the form of recipes as a JSON Schema (2020-12).
func Schema() []byte {
	root := form.schema()
	root["$schema"], root["title"] = "https://json-schema.org/draft/2020-12/schema", "A recipe of Varnet for a contact platform"
	out, err := json.MarshalIndent(root, "", "  ")
	if err != nil {
		panic(err) // it is made of texts alone
	}
	return append(out, '\n')
}

func (n *node) schema() map[string]any {
	s := map[string]any{}
	if n.kind != "any" {
		s["type"] = n.kind
	}
	if n.doc != "" {
		s["description"] = n.doc
	}
	switch {
	case n.fields != nil:
		props, want := map[string]any{}, []string{}
		for _, name := range n.names {
			props[name] = n.fields[name].schema()
			if n.fields[name].want {
				want = append(want, name)
			}
		}
		s["properties"], s["additionalProperties"] = props, false
		if len(want) > 0 {
			s["required"] = slices.Clone(want)
		}
	case n.kind == "array":
		s["items"] = n.each.schema()
	case n.each != nil:
		s["additionalProperties"] = n.each.schema()
	}
	return s
}
