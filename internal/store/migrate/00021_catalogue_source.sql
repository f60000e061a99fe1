-- +goose Up

-- Catalogues that a workspace follows: an address that is read daily. Entries of its own
-- go before what they say.
CREATE TABLE catalogue_source (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    kind         text NOT NULL,
    url          text NOT NULL,
    etag         text NOT NULL DEFAULT '',
    read_at      timestamptz,            -- when it was read last, well or not
    changed_at   timestamptz,            -- when that brought another catalogue
    entries      int NOT NULL DEFAULT 0,
    added        int NOT NULL DEFAULT 0, -- by the last change
    removed      int NOT NULL DEFAULT 0,
    problem      text NOT NULL DEFAULT '',
    created_at   timestamptz NOT NULL DEFAULT now(),
    UNIQUE (workspace_id, kind, url)
);
CREATE TABLE catalogue_source_entry (
    source_id bigint NOT NULL REFERENCES catalogue_source ON DELETE CASCADE,
    name      text NOT NULL,
    PRIMARY KEY (source_id, name)
);

-- +goose Down
DROP TABLE catalogue_source_entry, catalogue_source;
