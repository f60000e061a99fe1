-- +goose Up

-- The addresses of a list by domain, in parts of up to 20,000: what the planning
-- reads, without a look at each row. A line of mailboxes is the local part of one
-- address and, behind a tab, the traits of its name.
CREATE TABLE list_part (
    list_id   bigint NOT NULL,
    domain    text NOT NULL,
    last      int NOT NULL,      -- of the ordinals
    ordinals  int[] NOT NULL,    -- rising
    mailboxes text NOT NULL,
    PRIMARY KEY (list_id, domain, last)
);
ALTER TABLE list_part ALTER list_id SET STATISTICS 0;
INSERT INTO list_part SELECT list_id, domain, max(ordinal), array_agg(ordinal ORDER BY ordinal), string_agg(line, E'\n' ORDER BY ordinal)
FROM (SELECT list_id, domain, ordinal, (row_number() OVER (PARTITION BY list_id, domain ORDER BY ordinal) - 1) / 20000 AS part,
        left(coalesce(mailbox, typed), -length(domain) - 1) || coalesce(E'\t' || nullif(array_to_string(traits, ' '), ''), '') AS line
    FROM list_row WHERE address = ordinal AND domain IS NOT NULL) r
GROUP BY list_id, domain, part;
ALTER TABLE list_domain DROP ordinals;

-- Results, batch by batch, with the evidence of each in one piece. Where an address
-- stands in several batches of a run, the last one holds.
CREATE TABLE batch (
    run_id    bigint NOT NULL,
    id        bigint GENERATED ALWAYS AS IDENTITY,
    at        timestamptz NOT NULL,
    addresses int[] NOT NULL,
    verdicts  int[] NOT NULL,
    evidence  bytea,             -- as internal/store/pack/evidence.go packs it
    PRIMARY KEY (run_id, id)
);
ALTER TABLE batch ALTER run_id SET STATISTICS 0;

-- A parcel carries its addresses: mailboxes with their traits as in list_part, but
-- whole; the rounds they went through, the verdicts that stand until they are
-- replaced, and what they answered before, where there is any.
ALTER TABLE parcel ADD ordinals int[] NOT NULL DEFAULT '{}', ADD mailboxes text NOT NULL DEFAULT '',
    ADD rounds int[], ADD was int[], ADD asked bytea, ALTER questions SET DEFAULT '[]';

-- A parcel's record is written once and read seldom; what is asked about is there
-- for minutes, and the numbers of addresses do not shrink: none of that is worth the
-- time of taking it apart or packing it.
ALTER TABLE parcel ALTER record TYPE json, ALTER mailboxes SET STORAGE EXTERNAL, ALTER ordinals SET STORAGE EXTERNAL;
ALTER TABLE batch ALTER addresses SET STORAGE EXTERNAL;

-- Rows and results are written once and go as a whole list. What a vacuum does after
-- they were written, and what is to be learnt of them, is of no use to any query.
ALTER TABLE list_row SET (autovacuum_vacuum_insert_threshold = -1, autovacuum_analyze_threshold = 2000000000);
ALTER TABLE list_part SET (autovacuum_vacuum_insert_threshold = -1, autovacuum_analyze_threshold = 2000000000);
ALTER TABLE list_text SET (autovacuum_vacuum_insert_threshold = -1, autovacuum_analyze_threshold = 2000000000);
ALTER TABLE batch SET (autovacuum_vacuum_insert_threshold = -1, autovacuum_analyze_threshold = 2000000000);

-- Written for each parcel and read whole: without a check for each record.
ALTER TABLE tally DROP CONSTRAINT tally_run_id_fkey, DROP CONSTRAINT tally_verdict_fkey;
ALTER TABLE absence DROP CONSTRAINT absence_workspace_id_fkey;

-- +goose Down
ALTER TABLE absence ADD CONSTRAINT absence_workspace_id_fkey FOREIGN KEY (workspace_id) REFERENCES workspace ON DELETE CASCADE;
ALTER TABLE tally ADD CONSTRAINT tally_run_id_fkey FOREIGN KEY (run_id) REFERENCES run ON DELETE CASCADE,
    ADD CONSTRAINT tally_verdict_fkey FOREIGN KEY (verdict) REFERENCES verdict;
ALTER TABLE list_text RESET (autovacuum_vacuum_insert_threshold, autovacuum_analyze_threshold);
ALTER TABLE list_row RESET (autovacuum_vacuum_insert_threshold, autovacuum_analyze_threshold);
ALTER TABLE parcel ALTER record TYPE jsonb;
ALTER TABLE parcel DROP ordinals, DROP mailboxes, DROP rounds, DROP was, DROP asked, ALTER questions DROP DEFAULT;
DROP TABLE batch;
ALTER TABLE list_domain ADD ordinals int[] NOT NULL DEFAULT '{}';
DROP TABLE list_part;
