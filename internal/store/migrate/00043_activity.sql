-- +goose Up

-- When something was seen of an address last, and what; never the address.
CREATE TABLE activity (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    fingerprint  bytea NOT NULL,
    secret       bytea,
    at           timestamptz NOT NULL,
    kind         text NOT NULL,                -- what was seen
    source       text NOT NULL,                -- the file or list that says so
    PRIMARY KEY (workspace_id, fingerprint)
);

-- Counts the changes of what is known of activity.
ALTER TABLE workspace ADD COLUMN activity_version bigint NOT NULL DEFAULT 0;

-- What the words of another check mean, in findings.
CREATE TABLE opinion_mapping (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name         text NOT NULL,                -- whose check it is
    means        json NOT NULL,                -- findings by words in lower case; "" is none
    PRIMARY KEY (workspace_id, name)
);

-- +goose Down
DROP TABLE opinion_mapping;
ALTER TABLE workspace DROP COLUMN activity_version;
DROP TABLE activity;
