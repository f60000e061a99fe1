package store

import (
	"context"
	"testing"

	"varnet/core/probe"
)

// Acceptances returns what is known of the exchangers of a domain.
func (s *Store) Acceptances(ctx context.Context, domain string) (known []probe.Acceptance, err error) {
	err = s.ask(ctx, acceptancesOf(&known, domain))
	return known, err
}

// TestMannersBecomeAcceptances takes what was known of domains before acceptances
// through the migration, and the records of parcels with it.
func TestMannersBecomeAcceptances(t *testing.T) {
	s := migratedTo(t, 19)
	_, err := s.pool.Exec(t.Context(), `
		INSERT INTO workspace (name) VALUES ('ours');
		INSERT INTO list (workspace_id, name, file_name, dialect, columns, address_columns, header, rows, addresses)
			VALUES (1, 'members', '', '{}', '{e-mail}', '{0}', '', 1, 1);
		INSERT INTO run (workspace_id, list_id, depth, reuse_days, state, policy) SELECT 1, 1, 'mailbox', 0, 'finished', '{}';
		INSERT INTO domain_fact VALUES
			('a.example', '{"accepts": "some", "at": "2026-11-01T10:00:00Z", "exchanger": "mx1.a.example", "madeUp": [{"mailbox": "x@a.example", "reply": "250 ok", "conversation": 0}]}'),
			('b.example', '{"accepts": "unknown", "at": "2026-11-01T10:00:00Z"}');
		INSERT INTO parcel (run_id, lane_key, turn, round, addresses, ordinals, mailboxes, not_before, state, record)
			VALUES (1, 'a.example', 0, 1, 0, '{}', '', now(), 'done',
				'{"conversations": [{"exchanger": "mx1.a.example"}], "manners": {"a.example": {"accepts": "some", "at": "2026-11-01T10:00:00Z", "exchanger": "mx1.a.example", "took": true}}}')`)
	if err == nil {
		err = s.Migrate(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	known, err := s.Acceptances(t.Context(), "a.example")
	if err != nil || len(known) != 1 || known[0].Accepts != probe.AcceptsMixed || known[0].Exchanger != "mx1.a.example" || known[0].MadeUp[0].Mailbox != "x@a.example" {
		t.Errorf("%+v, %v", known, err)
	}
	records, err := s.ParcelRecords(t.Context(), 1, []int64{1})
	if a := records[1].Acceptance("a.example", 0); err != nil || a == nil || a.Accepts != probe.AcceptsMixed {
		t.Errorf("%+v, %v", records, err)
	}
	if a := records[1].Acceptance("a.example", 1); a != nil {
		t.Errorf("a conversation there is not taught %+v", a)
	}
}
