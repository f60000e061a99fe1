-- +goose Up

-- A batch that states the odds of results anew: evidence and time stay those of the batches before.
ALTER TABLE batch ADD COLUMN restated boolean NOT NULL DEFAULT false;

-- What columns of a list hold; null: told by their names.
ALTER TABLE list ADD COLUMN meanings json;

-- When what became of its letters was learnt from.
ALTER TABLE mailing ADD COLUMN learnt_at timestamptz;
CREATE INDEX mailing_to_learn ON mailing (workspace_id) WHERE state = 'closed' AND learnt_at IS NULL AND run_id IS NOT NULL;

-- Whether what became of messages counts for other workspaces, and theirs here: as counts of domains.
ALTER TABLE workspace ADD COLUMN share_outcomes boolean NOT NULL DEFAULT true;

-- What became of the last letter to each catch-all address, and how the address is made; never the
-- address.
CREATE TABLE observation (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    fingerprint  bytea NOT NULL,
    secret       bytea,
    run_id       bigint NOT NULL,              -- by which it was mailed; it may be gone
    domain       text NOT NULL,
    operator     text NOT NULL,
    pattern      text,                         -- how it is made of its name; '': otherwise; null: there was no name
    shape        text NOT NULL,
    role         boolean NOT NULL,
    random       boolean NOT NULL,
    prior        real NOT NULL,                -- the odds of the shipped table
    said         real NOT NULL,                -- the odds that were stated when it was mailed
    version      int NOT NULL,                 -- by which model; 0: the shipped table
    arrived      boolean NOT NULL,
    sent_at      timestamptz NOT NULL,
    PRIMARY KEY (workspace_id, fingerprint)
);
CREATE INDEX observation_domain ON observation (workspace_id, domain);

-- How the addresses of a domain are made in the list of a run.
CREATE TABLE run_habit (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    run_id       bigint NOT NULL,              -- it may be gone
    domain       text NOT NULL,
    neighbours   json NOT NULL,
    PRIMARY KEY (workspace_id, run_id, domain)
);

-- What was learnt, each time.
CREATE TABLE odds_model (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    version      int NOT NULL,
    made_at      timestamptz NOT NULL,
    messages     bigint NOT NULL,              -- that it was learnt from
    model        json,                         -- null: a later one is in use
    changes      text[] NOT NULL,              -- sentences
    PRIMARY KEY (workspace_id, version)
);

-- +goose Down
DROP TABLE odds_model;
DROP TABLE run_habit;
DROP TABLE observation;
ALTER TABLE workspace DROP COLUMN share_outcomes;
ALTER TABLE mailing DROP COLUMN learnt_at;
ALTER TABLE list DROP COLUMN meanings;
ALTER TABLE batch DROP COLUMN restated;
