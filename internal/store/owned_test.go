package store

import (
	"context"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"varnet/core/erase"
	"varnet/internal/testkit"
)

// notOwned are the tables without records of workspaces, or whose records are of several.
var notOwned = []string{"workspace", "acceptance", "attempt", "billing", "clock", "console_session", "daily_letter", "goose_db_version", "installation", "lane_speed", "letter_server", "notice_seen",
	"operator", "operator_route", "passkey", "payment_call", "person", "person_device", "person_session", "plan", "provider_account", "recovery_code", "remains", "return_refused", "river_job", "river_leader",
	"river_migration", "river_notification", "river_queue", "sending_outcome", "sending_part", "sending_setting", "ticket", "verdict", "worker"}

// TestOwnedTables holds the table of tables against the schema: whoever adds one must say whose it
// is, and whether it moves with a workspace and may name people.
func TestOwnedTables(t *testing.T) {
	s, err := Open(t.Context(), testkit.Database(t))
	if err == nil {
		err = s.Migrate(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ctx := context.Background()
	rows, err := s.pool.Query(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = 'public' AND table_type = 'BASE TABLE' ORDER BY 1")
	if err != nil {
		t.Fatal(err)
	}
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range tables {
		owned := slices.ContainsFunc(ownedTables, func(o ownedTable) bool { return o.name == name })
		if owned == slices.Contains(notOwned, name) {
			t.Errorf("%s is to be in ownedTables, or among those that are not a workspace's, and in one of them alone", name)
		}
	}
	for _, o := range append(slices.Clone(ownedTables), sharedTexts...) {
		if _, err := s.pool.Exec(ctx, "SELECT count(*) FROM "+o.name+" WHERE "+o.of, int64(1)); err != nil {
			t.Errorf("%s: %v", o.name, err)
		}
	}
}

// TestEraseJSON: of terms an address goes; columns stay as many as they are, and numbers what they
// are.
func TestEraseJSON(t *testing.T) {
	e := erase.Eraser{Gone: func(id string) bool { return id == "jane@seedling.example" }}
	for _, c := range []struct {
		column      textColumn
		ofNames     bool
		value, want string
	}{
		{textColumn{"terms", "ARRAY"}, true, `["a","Jane@seedling.example","b"]`, `["a","b"]`},
		{textColumn{"columns", "ARRAY"}, false, `["a","jane@seedling.example"]`, `["a","(erased)"]`},
		{textColumn{"record", "json"}, false, `{"n":12345678901234567890.10,"said":"550 <jane@seedling.example> \u00e9 <"}`, `{"n":12345678901234567890.10,"said":"550 <(erased)> é <"}`},
		{textColumn{"record", "jsonb"}, true, `{"jane@seedling.example":[{"x":["jane@seedling.example"]}]}`, `{"(erased)":[{"x":[]}]}`},
		{textColumn{"says", "text"}, false, "to jane@seedling.example", "to (erased)"},
		{textColumn{"says", "text"}, false, "to joan@seedling.example", ""},
	} {
		out, erased, err := c.column.erased(e, c.value, c.ofNames)
		if err != nil || erased != (c.want != "") || erased && strings.TrimSpace(out) != c.want {
			t.Errorf("%s: %q, %v, %v", c.value, out, erased, err)
		}
	}
}
