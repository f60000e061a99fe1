-- +goose Up

-- A run can be drafted: it begins later, works within its hours only, and ends
-- at its limit. Paused by its hours, it goes on by itself.
ALTER TABLE run DROP CONSTRAINT run_state_check,
    ADD CONSTRAINT run_state_check CHECK (state IN ('drafted', 'running', 'paused', 'finished', 'stopped')),
    ADD begin_at timestamptz NOT NULL DEFAULT now(),
    ADD hours text NOT NULL DEFAULT '',
    ADD zone text NOT NULL DEFAULT '',
    ADD limit_minutes int NOT NULL DEFAULT 0,
    ADD resume_at timestamptz;
UPDATE run SET begin_at = created_at;

-- How many addresses a second one lane got through lately.
CREATE TABLE lane_speed (
    lane_key   text PRIMARY KEY,
    per_second real NOT NULL,
    at         timestamptz NOT NULL DEFAULT now()
);

-- How many lanes a worker works in at once.
ALTER TABLE worker ADD lanes int NOT NULL DEFAULT 200;

-- +goose Down
ALTER TABLE worker DROP lanes;
DROP TABLE lane_speed;
UPDATE run SET state = 'stopped', finished_at = now() WHERE state = 'drafted';
ALTER TABLE run DROP CONSTRAINT run_state_check,
    ADD CONSTRAINT run_state_check CHECK (state IN ('running', 'paused', 'finished', 'stopped')),
    DROP begin_at, DROP hours, DROP zone, DROP limit_minutes, DROP resume_at;
