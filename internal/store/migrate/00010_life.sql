-- +goose Up

-- A run can be paused: its open parcels wait until it goes on.
ALTER TABLE run DROP CONSTRAINT run_state_check, ADD CONSTRAINT run_state_check CHECK (state IN ('running', 'paused', 'finished', 'stopped'));
ALTER TABLE parcel DROP CONSTRAINT parcel_state_check, ADD CONSTRAINT parcel_state_check CHECK (state IN ('open', 'paused', 'claimed', 'done', 'void'));
DROP INDEX parcel_run;
CREATE INDEX parcel_run ON parcel (run_id) WHERE state IN ('open', 'paused', 'claimed');

-- A run of a sample alone: the addresses that it asks about.
ALTER TABLE run ADD sample int[];

-- The quick estimate of a list, the last one.
CREATE TABLE estimate (
    list_id bigint PRIMARY KEY REFERENCES list ON DELETE CASCADE,
    body    jsonb NOT NULL,
    at      timestamptz NOT NULL DEFAULT now()
);

-- For how many days a workspace's lists are kept with all that was found out; 0:
-- until somebody deletes them.
ALTER TABLE workspace ADD keep_days int NOT NULL DEFAULT 90;
ALTER TABLE list ADD keep_days int;  -- of its own; null: as its workspace

-- Processes that work, with their last sign of life.
CREATE TABLE worker (
    id         text PRIMARY KEY,
    name       text NOT NULL,
    version    text NOT NULL,
    serves     boolean NOT NULL,
    parcels    int NOT NULL,          -- in hand
    draining   boolean NOT NULL DEFAULT false,
    started_at timestamptz NOT NULL,
    seen_at    timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE worker;
ALTER TABLE list DROP keep_days;
ALTER TABLE workspace DROP keep_days;
DROP TABLE estimate;
ALTER TABLE run DROP sample;
UPDATE parcel SET state = 'open' WHERE state = 'paused';
UPDATE run SET state = 'running' WHERE state = 'paused';
DROP INDEX parcel_run;
CREATE INDEX parcel_run ON parcel (run_id) WHERE state IN ('open', 'claimed');
ALTER TABLE run DROP CONSTRAINT run_state_check, ADD CONSTRAINT run_state_check CHECK (state IN ('running', 'finished', 'stopped'));
ALTER TABLE parcel DROP CONSTRAINT parcel_state_check, ADD CONSTRAINT parcel_state_check CHECK (state IN ('open', 'claimed', 'done', 'void'));
