package pack

import (
	"encoding/json"
	"reflect"
)

// form is the JSON form of a type of the core.
type form struct {
	kept reflect.Type
	to   func(any) any // from the core
	from func(any) any // to the core
}

var forms = map[reflect.Type]form{}

// keep returns the type C of the core the JSON form K.
func keep[C, K any](to func(C) K, from func(K) C) bool {
	forms[reflect.TypeFor[C]()] = form{
		kept: reflect.TypeFor[K](),
		to:   func(v any) any { return to(v.(C)) },
		from: func(v any) any { return from(v.(K)) },
	}
	forms[reflect.TypeFor[[]C]()] = form{
		kept: reflect.TypeFor[[]K](),
		to:   func(v any) any { return each(v.([]C), to) },
		from: func(v any) any { return each(v.([]K), from) },
	}
	return true
}

// each converts what a slice holds; nil stays nil.
func each[A, B any](in []A, convert func(A) B) []B {
	if in == nil {
		return nil
	}
	out := make([]B, len(in))
	for i, v := range in {
		out[i] = convert(v)
	}
	return out
}

// Marshal writes a value as JSON, values of the core in their kept forms.
func Marshal(v any) ([]byte, error) {
	if f, ok := forms[reflect.TypeOf(v)]; ok {
		v = f.to(v)
	}
	return json.Marshal(v)
}

// Unmarshal reads JSON that Marshal wrote into what v points to.
func Unmarshal(data []byte, v any) error {
	f, ok := forms[reflect.TypeOf(v).Elem()]
	if !ok {
		return json.Unmarshal(data, v)
	}
	kept := reflect.New(f.kept)
	if err := json.Unmarshal(data, kept.Interface()); err != nil {
		return err
	}
	reflect.ValueOf(v).Elem().Set(reflect.ValueOf(f.from(kept.Elem().Interface())))
	return nil
}
