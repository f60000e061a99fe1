-- +goose Up

-- Until when the first steps are shown to those who are new in a workspace: until its first export,
-- or until somebody in it wants to see them no more.
ALTER TABLE workspace ADD COLUMN guided_at timestamptz;
UPDATE workspace SET guided_at = now() WHERE EXISTS (SELECT FROM run WHERE workspace_id = workspace.id AND finished_at IS NOT NULL);

-- +goose Down
ALTER TABLE workspace DROP COLUMN guided_at;
