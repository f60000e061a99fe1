-- +goose Up

-- A workspace's own additions to the catalogues, and exceptions from them.
CREATE TABLE catalogue_entry (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    kind         text NOT NULL,
    name         text NOT NULL,
    "except"     boolean NOT NULL,
    created_at   timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (workspace_id, kind, name)
);

-- +goose Down
DROP TABLE catalogue_entry;
