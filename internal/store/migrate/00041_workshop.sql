-- +goose Up

-- The making of a list from lists.
CREATE TABLE workshop_job (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    list_id      bigint NOT NULL,             -- the one it begins with
    recipe       json NOT NULL,
    split        json,                        -- null: one list is made
    name         text NOT NULL DEFAULT '',
    dry_run      boolean NOT NULL,
    state        text NOT NULL DEFAULT 'working', -- working, done or failed
    read         bigint NOT NULL DEFAULT 0,   -- rows so far
    of_rows      bigint NOT NULL,             -- rows of all its lists
    report       json,                        -- null: not done yet
    list_ids     bigint[] NOT NULL DEFAULT '{}', -- that were made
    says         text NOT NULL DEFAULT '',
    by_whom      text NOT NULL DEFAULT '',
    begun_at     timestamptz NOT NULL DEFAULT now(),
    ended_at     timestamptz
);
CREATE INDEX workshop_job_of ON workshop_job (workspace_id, id);

-- Steps that are saved, for routines and for the next month.
CREATE TABLE step_recipe (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name         text NOT NULL,
    recipe       json NOT NULL,
    changed_at   timestamptz NOT NULL DEFAULT now(),
    UNIQUE (workspace_id, name)
);

-- Terms that are saved, to strike rows by again.
CREATE TABLE term_list (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name         text NOT NULL,
    terms        text[] NOT NULL,
    changed_at   timestamptz NOT NULL DEFAULT now(),
    UNIQUE (workspace_id, name)
);

-- Of what a list was made in the workshop, a sentence a step; null: it was imported. What its
-- columns are like, once somebody asked.
ALTER TABLE list ADD COLUMN made_of text[], ADD COLUMN profile json;

-- +goose Down
ALTER TABLE list DROP COLUMN made_of, DROP COLUMN profile;
DROP TABLE term_list;
DROP TABLE step_recipe;
DROP TABLE workshop_job;
