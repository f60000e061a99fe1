package store

import (
	"testing"

	"varnet/core/policy"
	"varnet/internal/store/migrate"
	"varnet/internal/testkit"
)

// migratedTo is a database as a version left it.
func migratedTo(t *testing.T, version int64) *Store {
	t.Helper()
	s, err := Open(t.Context(), testkit.EmptyDatabase(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	if err := migrate.To(t.Context(), s.pool, version); err != nil {
		t.Fatal(err)
	}
	return s
}

// TestResultsBecomeBatches takes a database from before batches through the
// migrations: results, evidence and what is still to be asked are there after.
func TestResultsBecomeBatches(t *testing.T) {
	s := migratedTo(t, 15)
	careful, err := s.pool.Exec(t.Context(), `
		INSERT INTO workspace (name) VALUES ('ours');
		INSERT INTO list (workspace_id, name, file_name, dialect, columns, address_columns, header, rows, addresses) VALUES (1, 'members', '', '{}', '{e-mail}', '{0}', '', 4, 4);
		INSERT INTO list_row (list_id, ordinal, line, raw, typed, address, mailbox, domain, traits)
			SELECT 1, n, n, '', 'a' || n || '@seed.example', n, null, 'seed.example', CASE n WHEN 4 THEN '{role,tagged}'::text[] END FROM generate_series(1, 4) n;
		INSERT INTO list_domain (list_id, domain, addresses, ordinals) VALUES (1, 'seed.example', 4, '{1,2,3,4}');
		INSERT INTO run (workspace_id, list_id, depth, policy, state, plan) VALUES (1, 1, 'mailbox', '{"name": "careful", "rules": []}', 'running', '{"done": true}');
		INSERT INTO verdict (finding, cause, traits, odds) VALUES ('deliverable', 'mailbox.accepted', '{}', 0.98), ('undecided', 'exchanger.postponed', '{}', 0.5);
		INSERT INTO result (run_id, address, verdict, evidence, at) VALUES
			(1, 1, 1, '{"asked": [{"parcel": 9, "conversation": 1, "at": "2026-11-24T10:00:00.5Z", "tookMs": 0.25, "reply": "250 ok", "why": "taken"}]}', '2026-11-24 10:00+00'),
			(1, 2, 2, '{}', '2026-11-24 10:00+00'), (1, 3, 1, '{}', '2026-11-24 11:00+00');
		INSERT INTO tally (run_id, verdict, addresses) VALUES (1, 1, 2), (1, 2, 1);
		INSERT INTO parcel (run_id, lane_key, turn, round, addresses, questions, not_before, again) VALUES
			(1, 'seed.example', 1, 1, 1, '[{"a": 4}]', now(), false),
			(1, 'seed.example', 2, 2, 1, '[{"a": 2, "r": 1, "asked": [{"conversation": 0, "at": "2026-11-24T10:00:00Z", "tookMs": 1, "reply": "450 later", "why": "put off"}]}]', now(), true)`)
	if err != nil {
		t.Fatal(careful, err)
	}
	if err := s.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	run := Run{ID: 1, WorkspaceID: 1, ListID: 1, Policy: policy.Careful()}
	found, err := s.Results(t.Context(), run, ResultFilter{Domain: "seed.example", Limit: 10})
	if err != nil || len(found) != 3 || found[0].Verdict != 1 || found[1].Verdict != 2 || found[0].At.Equal(found[2].At) {
		t.Errorf("results: %+v, %v", found, err)
	}
	full, err := s.FullResult(t.Context(), run, 1)
	if err != nil || len(full.Asked) != 1 || full.Asked[0].Reply != "250 ok" || full.Asked[0].TookMS != 0.25 || full.Asked[0].Parcel != 9 {
		t.Errorf("evidence: %+v, %v", full.Asked, err)
	}
	first, err := s.Claim(t.Context(), "seed.example", 0)
	if err != nil || first == nil || len(first.Questions) != 1 || first.Questions[0].Mailbox != "a4@seed.example" || len(first.Questions[0].Traits) != 2 || first.Questions[0].Was != 0 {
		t.Fatalf("parcel: %+v, %v", first, err)
	}
	second, err := s.Claim(t.Context(), "seed.example", 0)
	if err != nil || second == nil || second.Questions[0].Rounds != 1 || second.Questions[0].Was != 2 || second.Questions[0].Asked[0].Reply != "450 later" || !second.Again {
		t.Fatalf("parcel asked again: %+v, %v", second, err)
	}
	all, err := s.AddressesIn(t.Context(), run, []string{"seed.example"}, 2, 10)
	if err != nil || len(all) != 2 || all[1].Mailbox != "a4@seed.example" || len(all[1].Traits) != 2 {
		t.Errorf("addresses: %+v, %v", all, err)
	}
}
