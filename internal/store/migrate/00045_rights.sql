-- +goose Up

-- Addresses that were erased because the person whom they belong to asked for it: their
-- fingerprint, keyed by a secret of the workspace, so that they are known when they come again.
CREATE TABLE erased (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    fingerprint  bytea NOT NULL,
    at           timestamptz NOT NULL,
    PRIMARY KEY (workspace_id, fingerprint)
);

-- What persons asked for about their address, and what was done. While an erasure is at work
-- the address is kept, sealed; afterwards its fingerprint alone.
CREATE TABLE request (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    kind         text NOT NULL CHECK (kind IN ('file', 'erase', 'allow')),
    fingerprint  bytea NOT NULL,
    sealed       bytea,
    state        text NOT NULL CHECK (state IN ('working', 'done')),
    lists        int NOT NULL DEFAULT 0,       -- in which something was erased
    rows         bigint NOT NULL DEFAULT 0,    -- that are blank now
    results      bigint NOT NULL DEFAULT 0,
    elsewhere    bigint NOT NULL DEFAULT 0,    -- records outside of lists
    says         text NOT NULL DEFAULT '',     -- what is waited for
    by_whom      text NOT NULL DEFAULT '',
    begun_at     timestamptz NOT NULL DEFAULT now(),
    ended_at     timestamptz
);
CREATE INDEX request_of ON request (workspace_id, id);

-- How many rows of a list are blank because their address was erased. The number of erasures in
-- a run tells who remembers its results to read them again.
ALTER TABLE list ADD COLUMN erased bigint NOT NULL DEFAULT 0, ADD COLUMN erasures int NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN erasures int NOT NULL DEFAULT 0;

-- The sealed secret of the fingerprints above; null: nothing was erased yet. When a workspace
-- is to be deleted, and on whose order.
ALTER TABLE workspace ADD COLUMN erased_key bytea, ADD COLUMN delete_at timestamptz, ADD COLUMN delete_by text NOT NULL DEFAULT '';
CREATE INDEX workspace_delete ON workspace (delete_at) WHERE delete_at IS NOT NULL;

-- Keys of forms: from which origins they are taken, and how often one visitor may ask a day.
ALTER TABLE key ADD COLUMN origins text[] NOT NULL DEFAULT '{}', ADD COLUMN visitor_day int;

-- How often a visitor of a form asked, by fingerprint of the visitor, and about how many
-- different addresses.
CREATE TABLE form_visit (
    key_id    bigint NOT NULL REFERENCES key ON DELETE CASCADE,
    visitor   bytea NOT NULL,
    day       date NOT NULL,
    asks      int NOT NULL,
    addresses bytea[] NOT NULL,
    at        timestamptz NOT NULL,
    PRIMARY KEY (key_id, visitor, day)
);
CREATE INDEX form_visit_day ON form_visit (day);

-- What was found about addresses that were typed into forms, by fingerprint, for a day.
CREATE TABLE form_answer (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    fingerprint  bytea NOT NULL,
    answer       text NOT NULL,
    at           timestamptz NOT NULL,
    PRIMARY KEY (workspace_id, fingerprint)
);
CREATE INDEX form_answer_at ON form_answer (at);

-- +goose Down
DROP TABLE form_answer;
DROP TABLE form_visit;
ALTER TABLE key DROP COLUMN origins, DROP COLUMN visitor_day;
ALTER TABLE workspace DROP COLUMN erased_key, DROP COLUMN delete_at, DROP COLUMN delete_by;
ALTER TABLE list DROP COLUMN erased, DROP COLUMN erasures;
ALTER TABLE run DROP COLUMN erasures;
DROP TABLE request;
DROP TABLE erased;
