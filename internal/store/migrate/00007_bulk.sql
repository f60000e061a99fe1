-- +goose Up

-- The bulk tables refer to lists, runs and verdicts without foreign keys: a
-- check for each of a million rows takes longer than writing them. What they
-- refer to is held by the transactions that write them; DeleteList
-- deletes them.
ALTER TABLE list_row DROP CONSTRAINT list_row_list_id_fkey;
ALTER TABLE list_domain DROP CONSTRAINT list_domain_list_id_fkey;
ALTER TABLE result DROP CONSTRAINT result_run_id_fkey, DROP CONSTRAINT result_verdict_fkey;
ALTER TABLE run_domain DROP CONSTRAINT run_domain_run_id_fkey;

-- A domain keeps the ordinals of its addresses: an index over the rows takes
-- longer to write than the rows.
ALTER TABLE list_domain ADD ordinals int[] NOT NULL DEFAULT '{}';
UPDATE list_domain d SET ordinals = ARRAY(SELECT ordinal FROM list_row r
    WHERE r.list_id = d.list_id AND r.domain = d.domain AND r.address = r.ordinal ORDER BY ordinal);
CREATE UNIQUE INDEX list_domain_name ON list_domain (list_id, domain);
DROP INDEX list_row_domain;

-- +goose Down
CREATE INDEX list_row_domain ON list_row (list_id, domain) WHERE address = ordinal;
DROP INDEX list_domain_name;
ALTER TABLE list_domain DROP ordinals;
ALTER TABLE list_row ADD CONSTRAINT list_row_list_id_fkey FOREIGN KEY (list_id) REFERENCES list ON DELETE CASCADE;
ALTER TABLE list_domain ADD CONSTRAINT list_domain_list_id_fkey FOREIGN KEY (list_id) REFERENCES list ON DELETE CASCADE;
ALTER TABLE result ADD CONSTRAINT result_run_id_fkey FOREIGN KEY (run_id) REFERENCES run ON DELETE CASCADE,
    ADD CONSTRAINT result_verdict_fkey FOREIGN KEY (verdict) REFERENCES verdict;
ALTER TABLE run_domain ADD CONSTRAINT run_domain_run_id_fkey FOREIGN KEY (run_id) REFERENCES run ON DELETE CASCADE;
