-- +goose Up

-- A workspace that is being deleted: nobody is in it any more, and a job deletes what is left
-- where the deletion was broken off.
ALTER TABLE workspace ADD COLUMN ended_at timestamptz;
CREATE INDEX workspace_ended ON workspace (id) WHERE ended_at IS NOT NULL;

-- +goose Down
ALTER TABLE workspace DROP COLUMN ended_at;
