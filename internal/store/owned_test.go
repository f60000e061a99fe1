package store

import (
	"context"
	"slices"
	"testing"

	"github.com/jackc/pgx/v5"

	"varnet/internal/testkit"
)

// notOwned are the tables without records of workspaces, or whose records are of several.
var notOwned = []string{"workspace", "acceptance", "attempt", "billing", "clock", "console_session", "daily_letter", "goose_db_version", "installation", "lane_speed", "letter_server", "notice_seen",
	"operator", "operator_route", "passkey", "payment_call", "person", "person_device", "person_session", "plan", "provider_account", "recovery_code", "return_refused", "river_job", "river_leader",
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
			t.Errorf("%s is to be in ownedTables, or among those that are no workspace's, and in one of them alone", name)
		}
	}
	for _, o := range append(slices.Clone(ownedTables), sharedTexts...) {
		if _, err := s.pool.Exec(ctx, "SELECT count(*) FROM "+o.name+" WHERE "+o.of, int64(1)); err != nil {
			t.Errorf("%s: %v", o.name, err)
		}
	}
}
