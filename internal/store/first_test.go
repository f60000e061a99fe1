package store

import (
	"slices"
	"testing"

	"varnet/core/policy"
)

// TestFromTheFirstMigration takes a database from the first migration of all to the newest: a list
// with its rows, and a finished run with its results, its tally and what the hosts said, are there after.
func TestFromTheFirstMigration(t *testing.T) {
	s, ctx := migratedTo(t, 1), t.Context()
	_, err := s.pool.Exec(ctx, `
		INSERT INTO workspace (name) VALUES ('ours');
		INSERT INTO key (workspace_id, name, hash) VALUES (1, 'of old', '\x01');
		INSERT INTO list (workspace_id, name, file_name, dialect, columns, address_column, header, rows, addresses, malformed, duplicates)
			VALUES (1, 'members', 'members.csv', '{}', '{name,e-mail}', 1, 'name,e-mail', 5, 3, 1, 1);
		INSERT INTO list_row (list_id, ordinal, line, raw, typed, address, mailbox, domain, traits, problem) VALUES
			(1, 1, 2, 'Ada,ada@seed.example', 'ada@seed.example', 1, 'ada@seed.example', 'seed.example', '{}', null),
			(1, 2, 3, 'Bea,bea@seed.example', 'bea@seed.example', 2, 'bea@seed.example', 'seed.example', '{tagged}', null),
			(1, 3, 4, 'Ada,ADA@seed.example', 'ADA@seed.example', 1, null, null, null, null),
			(1, 4, 5, 'Cai,cai@@', 'cai@@', 4, null, null, null, '{"cause": "syntax.malformed", "position": 4, "reason": "no @"}'),
			(1, 5, 6, 'Dora,dora@gone.example', 'dora@gone.example', 5, 'dora@gone.example', 'gone.example', '{}', null);
		INSERT INTO list_domain (list_id, domain, addresses) VALUES (1, 'seed.example', 2), (1, 'gone.example', 1);
		INSERT INTO run (workspace_id, list_id, depth, policy, state, plan, finished_at) VALUES (1, 1, 'mailbox', 'careful', 'finished', '{"done": true}', '2026-10-01 10:00+00');
		INSERT INTO run_domain (run_id, domain, operator, facts) VALUES (1, 'seed.example', 'seed.example', '{}'), (1, 'gone.example', '', '{}');
		INSERT INTO verdict (finding, cause, traits, odds) VALUES ('deliverable', 'mailbox.accepted', '{}', 0.98), ('undeliverable', 'mailbox.absent', '{}', 0), ('undeliverable', 'domain.absent', '{}', 0);
		INSERT INTO result (run_id, address, verdict, evidence, at) VALUES
			(1, 1, 1, '{"asked": [{"conversation": 0, "at": "2026-10-01T09:59:00Z", "tookMs": 1, "reply": "250 ok", "why": "taken"}]}', '2026-10-01 09:59+00'),
			(1, 2, 2, '{"asked": [{"conversation": 0, "at": "2026-10-01T09:59:00Z", "tookMs": 1, "reply": "550 no such user", "why": "absent"}]}', '2026-10-01 09:59+00'),
			(1, 5, 3, '{}', '2026-10-01 09:58+00');
		INSERT INTO tally (run_id, verdict, addresses) VALUES (1, 1, 1), (1, 2, 1), (1, 3, 1)`)
	if err == nil {
		err = s.Migrate(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	l, err := s.List(ctx, 1, 1)
	if err != nil || l.Rows != 5 || l.Addresses != 3 || l.Duplicates != 1 || !slices.Equal(l.Columns, []string{"name", "e-mail"}) || !slices.Equal(l.AddressColumns, []int{1}) {
		t.Errorf("the list: %+v, %v", l, err)
	}
	var raw []string
	err = s.eachCell(ctx, 1, 1, 10, true, func(r *Row) error { raw = append(raw, string(r.Raw)); return nil })
	if err != nil || !slices.Equal(raw, []string{"Ada,ada@seed.example", "Bea,bea@seed.example", "Ada,ADA@seed.example", "Cai,cai@@", "Dora,dora@gone.example"}) {
		t.Errorf("the rows: %q, %v", raw, err)
	}
	run, err := s.Run(ctx, 1, 1)
	if err != nil || run.State != "finished" || run.Policy.Name != policy.Careful().Name || len(run.Policy.Rules) == 0 {
		t.Fatalf("the run: %+v, %v", run, err)
	}
	found, err := s.Results(ctx, run, ResultFilter{Limit: 10})
	if err != nil || len(found) != 3 || found[0].Verdict != 1 || found[1].Verdict != 2 || found[2].Verdict != 3 {
		t.Errorf("the results: %+v, %v", found, err)
	}
	full, err := s.FullResult(ctx, run, 2)
	if err != nil || len(full.Asked) != 1 || full.Asked[0].Reply != "550 no such user" {
		t.Errorf("the evidence: %+v, %v", full.Asked, err)
	}
	p, err := s.Progress(ctx, 1)
	if err != nil || len(p[1].Verdicts) != 3 || p[1].Verdicts[2] != 1 {
		t.Errorf("the tally: %+v, %v", p, err)
	}
}
