-- +goose Up

-- A parcel of addresses that have a result already and are asked again: what
-- it brings replaces theirs, which stand until then.
ALTER TABLE parcel ADD again boolean NOT NULL DEFAULT false;

-- When a workspace's addresses were first found absent: one that is accepted
-- long after may have become a trap. Of the address only a fingerprint is kept.
CREATE TABLE absence (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    fingerprint  bytea NOT NULL,   -- SHA-256 of the mailbox in lower case
    at           timestamptz NOT NULL,
    PRIMARY KEY (workspace_id, fingerprint)
);

-- +goose Down
DROP TABLE absence;
ALTER TABLE parcel DROP again;
