-- +goose Up

-- Lists whose time has come are found by their workspace and age, and those with a time of their own by that they have one.
CREATE INDEX list_age ON list (workspace_id, created_at);
CREATE INDEX list_own_days ON list (id) WHERE keep_days IS NOT NULL;

-- +goose Down
DROP INDEX list_own_days;
DROP INDEX list_age;
