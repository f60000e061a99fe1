-- +goose Up

-- The latest results of a run, folded into parts of 32,768 addresses that follow each other, as
-- internal/store/pack/latest.go packs them: so a page is read without the whole run. What was
-- recorded since stands in the batches that are not folded yet. counts are the addresses of
-- each of the verdicts different.
CREATE TABLE latest_part (
    run_id    bigint NOT NULL,
    part      int NOT NULL,
    different int[] NOT NULL,
    counts    int[] NOT NULL,
    verdicts  bytea NOT NULL,
    batches   bytea NOT NULL,
    PRIMARY KEY (run_id, part)
);
ALTER TABLE latest_part ALTER run_id SET STATISTICS 0;

-- How often results of a run were folded: who remembers its parts reads them again when it has
-- changed. Whoever folds holds the record.
CREATE TABLE latest_fold (
    run_id bigint PRIMARY KEY,
    folds  int NOT NULL
);

-- Where a parcel stands in the line of its lane key: each workspace has the same share of it, whatever
-- runs it has, and a run that begins goes before what others have left, but not before all of it.
ALTER TABLE parcel ADD COLUMN line bigint NOT NULL DEFAULT 0;
CREATE INDEX parcel_line ON parcel (lane_key, line, id) WHERE state = 'open';

-- Where a worker goes out from: its direct route is one of its own.
ALTER TABLE worker ADD COLUMN location text NOT NULL DEFAULT '';

-- Bulk of lists and runs that are deleted, which is removed step by step.
CREATE TABLE remains (
    of_list boolean NOT NULL, -- of a list, else of a run
    id      bigint NOT NULL,
    PRIMARY KEY (of_list, id)
);

-- What is removed makes room soon: a fiftieth of these tables is much.
ALTER TABLE row_block SET (autovacuum_vacuum_scale_factor = 0.02, toast.autovacuum_vacuum_scale_factor = 0.02);
ALTER TABLE list_part SET (autovacuum_vacuum_scale_factor = 0.02, toast.autovacuum_vacuum_scale_factor = 0.02);
ALTER TABLE batch SET (autovacuum_vacuum_scale_factor = 0.02, toast.autovacuum_vacuum_scale_factor = 0.02);
ALTER TABLE latest_part SET (autovacuum_vacuum_scale_factor = 0.02, toast.autovacuum_vacuum_scale_factor = 0.02);

ALTER TABLE batch ADD COLUMN folded boolean NOT NULL DEFAULT false;
CREATE INDEX batch_unfolded ON batch (run_id, id) WHERE NOT folded;

-- The runs that go on, among all that there were.
CREATE INDEX run_going ON run (workspace_id, id) WHERE state IN ('drafted', 'running', 'paused');
