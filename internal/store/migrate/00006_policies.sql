-- +goose Up

-- Policies of a workspace's own; each change is a version of its own.
CREATE TABLE policy (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name         text NOT NULL,
    version      int NOT NULL,
    body         jsonb NOT NULL,
    created_at   timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (workspace_id, name, version)
);

-- A run keeps the whole policy that decides on it. Of runs from before only the
-- name of the ready-made one is known.
ALTER TABLE run ALTER policy TYPE jsonb USING jsonb_build_object('name', policy, 'rules', '[]'::jsonb);

-- A list may have several address columns. Each row then takes as many
-- ordinals, one for each of its address cells; the record's bytes stand with
-- the first.
ALTER TABLE list ALTER address_column TYPE int[] USING ARRAY[address_column];
ALTER TABLE list RENAME address_column TO address_columns;

-- What each column holds, and how many rows have a cell that a spreadsheet
-- would run as a formula.
ALTER TABLE list ADD kinds jsonb NOT NULL DEFAULT '[]', ADD formulas bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE list DROP kinds, DROP formulas;
ALTER TABLE list RENAME address_columns TO address_column;
ALTER TABLE list ALTER address_column TYPE int USING address_column[1];
ALTER TABLE run ALTER policy TYPE text USING policy->>'name';
DROP TABLE policy;
