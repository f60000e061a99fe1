package contract

import (
	"fmt"
	"net/url"
	"reflect"
	"strings"
)

// Query writes the fields of a struct as the query that their tags name. What
// has its zero value is left out, so that the service's default holds.
func Query(v any) url.Values {
	q := url.Values{}
	addFields(q, reflect.ValueOf(v))
	return q
}

func addFields(q url.Values, v reflect.Value) {
	for i := range v.NumField() {
		field, name := v.Field(i), v.Type().Field(i).Tag.Get("query")
		switch {
		case v.Type().Field(i).Anonymous:
			addFields(q, field)
		case name == "" || field.IsZero():
		case field.Kind() == reflect.Slice:
			q.Set(name, strings.Trim(strings.ReplaceAll(fmt.Sprint(field.Interface()), " ", ","), "[]"))
		default:
			q.Set(name, fmt.Sprint(field.Interface()))
		}
	}
}
