package database_test

import (
	"errors"
	"strings"
	"testing"

	"varnet/core/problem"
	"varnet/internal/connect"
	"varnet/internal/connect/database"
)

// TestCheck: queries and statements that could do more than they should are refused before
// anything is contacted.
func TestCheck(t *testing.T) {
	settings := func(queries, statements string) connect.Settings {
		return connect.Settings{"host": "db.fernhollow.example", "database": "members", "user": "varnet", "queries": queries, "statements": statements}
	}
	for _, of := range []struct{ queries, statements, want string }{
		{"-- Members\nSELECT id, email FROM members;", "-- mail state\nUPDATE members SET mail_state = {value} WHERE id = {key}", ""},
		{"-- Odd\nSELECT id, ';' AS a, \"x;y\" FROM members -- a comment; here\n/* and; here */", "", ""},
		{"SELECT 1", "", "the first line is -- and a name"},
		{"-- Members\n", "", "after the line -- Members there is nothing"},
		{"-- Members\nSELECT 1; DROP TABLE members", "", "is more than one statement: there is a semicolon in it"},
		{"-- Members\nSELECT '; DROP TABLE members", "", "is more than one statement"},
		{"-- Members\nDELETE FROM members RETURNING *", "", "does not begin with SELECT or WITH"},
		{"-- Members\n(Select id, email FROM members)", "", ""},
		{"-- Members\n42", "", "does not begin with SELECT or WITH"},
		{"-- Members\n…", "", "does not begin with SELECT or WITH"},
		{"-- A\nSELECT 1\n-- A\nSELECT 2", "", "each line -- has a name of its own"},
		{"-- A\nSELECT 1", "-- s\nUPDATE members SET x = {value}", "has no {key}, and would change everybody"},
		{"-- A\nSELECT 1", "-- s\nUPDATE members SET x = {vlaue} WHERE id = {key}", "has {vlaue}; there are {key}, {value} and {address}"},
		{"-- A\nSELECT 1", "-- s\nUPDATE members SET x = 1 WHERE id = {key}; DELETE FROM members", "is more than one statement"},
	} {
		err := database.Kind.CheckSettings(settings(of.queries, of.statements))
		var wrong *problem.Field
		if of.want == "" && err != nil || of.want != "" && (!errors.As(err, &wrong) || !strings.Contains(wrong.Why, of.want)) {
			t.Errorf("%q, %q: %v", of.queries, of.statements, err)
		}
	}
}
