-- +goose Up

-- Places that contacts live in, with somebody's credentials.
CREATE TABLE connection (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name         text NOT NULL,
    kind         text NOT NULL,
    settings     jsonb NOT NULL,
    sealed       bytea,                       -- the settings that are secret, by name
    says         text NOT NULL DEFAULT '',    -- what its last test, or its last failure, said
    broken_at    timestamptz,                 -- since when it does not work; null: it does
    tested_at    timestamptz,
    created_at   timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX connection_name ON connection (workspace_id, lower(name));

-- Where a list came from. Of contacts the first column is the key.
ALTER TABLE list ADD COLUMN connection_id bigint REFERENCES connection ON DELETE SET NULL, ADD COLUMN collection text NOT NULL DEFAULT '';
CREATE INDEX list_connection ON list (connection_id) WHERE connection_id IS NOT NULL;

-- Collections on their way in: pages of contacts as they came, until they are a list.
CREATE TABLE connection_import (
    id              bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id    bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    connection_id   bigint NOT NULL REFERENCES connection ON DELETE CASCADE,
    collection      text NOT NULL,
    collection_name text NOT NULL,
    list_name       text NOT NULL,
    earlier_id      bigint REFERENCES list ON DELETE SET NULL,  -- the list that it is a newer import of
    quiet           boolean NOT NULL DEFAULT false,             -- what wants it tells of it itself
    tag             text NOT NULL DEFAULT '',                   -- of the file that was read, if it is one
    state           text NOT NULL,                              -- reading, importing, done, failed
    mark            text NOT NULL DEFAULT '',                   -- from where to go on
    pages           int NOT NULL DEFAULT 0,
    contacts        bigint NOT NULL DEFAULT 0,                  -- that came
    expected        bigint NOT NULL DEFAULT -1,                 -- that the place says there are; -1: it does not
    columns         text[] NOT NULL DEFAULT '{}',
    addresses       int NOT NULL DEFAULT 1,                     -- that one contact has, at most
    says            text NOT NULL DEFAULT '',
    list_id         bigint REFERENCES list ON DELETE SET NULL,
    begun_at        timestamptz NOT NULL DEFAULT now(),
    ended_at        timestamptz
);
CREATE INDEX connection_import_of ON connection_import (connection_id, id);
CREATE TABLE connection_page (
    import_id bigint NOT NULL REFERENCES connection_import ON DELETE CASCADE,
    number    int NOT NULL,
    contacts  bytea NOT NULL,
    PRIMARY KEY (import_id, number)
);
ALTER TABLE connection_page ALTER COLUMN contacts SET STORAGE EXTERNAL; -- they are compressed

-- Decisions on their way to where the contacts came from, and the journal of it.
CREATE TABLE write_back (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id  bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    run_id        bigint NOT NULL REFERENCES run ON DELETE CASCADE,
    connection_id bigint NOT NULL REFERENCES connection ON DELETE CASCADE,
    collection    text NOT NULL,
    spec          jsonb NOT NULL,
    targets       text[] NOT NULL DEFAULT '{}',   -- by step, what a place made for it
    planned       bigint[] NOT NULL DEFAULT '{}', -- by step, how many contacts a person has seen that it is for; none: nobody has
    state         text NOT NULL,                  -- preparing, writing, done, failed, undoing, undone
    says          text NOT NULL DEFAULT '',
    quiet         boolean NOT NULL DEFAULT false,
    by_whom       text NOT NULL DEFAULT '',
    begun_at      timestamptz NOT NULL DEFAULT now(),
    ended_at      timestamptz
);
CREATE INDEX write_back_run ON write_back (run_id);
CREATE INDEX write_back_connection ON write_back (connection_id, id);
-- What each contact gets, and what it had.
CREATE TABLE write_item (
    write_back_id bigint NOT NULL REFERENCES write_back ON DELETE CASCADE,
    step          int NOT NULL,
    number        int NOT NULL,
    key           text NOT NULL,
    addresses     text[] NOT NULL,
    value         text NOT NULL,
    state         smallint NOT NULL DEFAULT 0,    -- open, begun, done, skipped, failed, undone, left
    had           text,                           -- null: not known
    why           text NOT NULL DEFAULT '',
    PRIMARY KEY (write_back_id, step, number)
);
CREATE INDEX write_item_open ON write_item (write_back_id, step, number) WHERE state IN (0, 1);

-- Links from which a tool fetches a file of a run, until they expire.
CREATE TABLE link (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    run_id       bigint NOT NULL REFERENCES run ON DELETE CASCADE,
    hash         bytea NOT NULL UNIQUE,
    decision     text NOT NULL,
    form         text NOT NULL,
    format       text NOT NULL,
    by_whom      text NOT NULL,
    expires_at   timestamptz NOT NULL,
    fetched      int NOT NULL DEFAULT 0,
    fetched_at   timestamptz,
    created_at   timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX link_run ON link (run_id);

CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON connection FOR EACH ROW EXECUTE FUNCTION tell_change('connection');
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON connection_import FOR EACH ROW EXECUTE FUNCTION tell_change('import');
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON write_back FOR EACH ROW EXECUTE FUNCTION tell_change('write-back');

-- +goose Down
DROP TABLE link, write_item, write_back, connection_page, connection_import;
ALTER TABLE list DROP COLUMN connection_id, DROP COLUMN collection;
DROP TABLE connection;
