package directory_test

import (
	"errors"
	"strings"
	"testing"

	"varnet/core/problem"
	"varnet/internal/connect"
	"varnet/internal/connect/directory"
)

// TestCheck: what of the settings of a directory cannot be is said with its place.
func TestCheck(t *testing.T) {
	good := func() connect.Settings {
		return connect.Settings{"address": "ldaps://directory.fernhollow.example", "user": "cn=varnet,dc=fernhollow,dc=example", "password": "quince", "base": "ou=people,dc=fernhollow,dc=example"}
	}
	if err := directory.Kind.CheckSettings(good()); err != nil {
		t.Fatal(err)
	}
	for field, of := range map[string][2]string{
		"address":    {"https://directory.fernhollow.example", "is not an address such as ldaps://"},
		"filter":     {"(mail=*)(|(objectClass=*", "is not a filter such as"},
		"base":       {"people", "is not a distinguished name"},
		"attributes": {"cn, description)(uid=*", "is not an attribute name"},
		"addresses":  {"mail, (uid=*)", "is not an attribute name"},
		"password":   {" ", "is missing"},
		"nothing":    {"x", "has no such setting"},
	} {
		s := good()
		s[field] = of[0]
		var wrong *problem.Field
		if err := directory.Kind.CheckSettings(s); !errors.As(err, &wrong) || wrong.Name != field || !strings.Contains(wrong.Why, of[1]) {
			t.Errorf("%s: %v", field, err)
		}
	}
}
