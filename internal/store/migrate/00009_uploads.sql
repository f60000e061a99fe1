-- +goose Up

-- A list brought in with a key is brought in once.
ALTER TABLE list ADD key text;
CREATE UNIQUE INDEX list_key ON list (workspace_id, key) WHERE key IS NOT NULL;

-- A file on its way in, part by part, under the key of the list that it will
-- become.
CREATE TABLE upload (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    key          text NOT NULL,
    size         bigint NOT NULL,
    received     bigint NOT NULL DEFAULT 0,
    created_at   timestamptz NOT NULL DEFAULT now(),
    UNIQUE (workspace_id, key)
);
CREATE TABLE upload_part (
    upload_id bigint NOT NULL REFERENCES upload ON DELETE CASCADE,
    start     bigint NOT NULL,
    bytes     bytea NOT NULL,
    PRIMARY KEY (upload_id, start)
);

-- +goose Down
DROP TABLE upload_part, upload;
DROP INDEX list_key;
ALTER TABLE list DROP key;
