-- +goose Up

-- Where what comes back after mailings is read: a mailbox (IMAP), or calls of a program.
CREATE TABLE bounce_source (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id  bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    kind          text NOT NULL,               -- mailbox or webhook
    name          text NOT NULL,
    host          text NOT NULL DEFAULT '',
    port          int NOT NULL DEFAULT 0,
    security      text NOT NULL DEFAULT '',
    username      text NOT NULL DEFAULT '',
    sealed        bytea NOT NULL,              -- its password, or the secret that calls are signed by
    folder        text NOT NULL DEFAULT '',    -- that is read
    "then"        text NOT NULL DEFAULT '',    -- what becomes of a message: flag, move or delete
    then_folder   text NOT NULL DEFAULT '',    -- where to
    uid_validity  bigint NOT NULL DEFAULT 0,   -- of the folder (RFC 9051, section 2.3.1.1)
    last_uid      bigint NOT NULL DEFAULT 0,   -- the last message that was read
    looked_at     timestamptz,
    claimed_at    timestamptz,                 -- somebody reads it now
    failing_since timestamptz,                 -- null: the last look was well
    says          text NOT NULL DEFAULT '',    -- what the last look found
    messages      bigint NOT NULL DEFAULT 0,   -- that came by it
    by_whom       text NOT NULL DEFAULT '',
    created_at    timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX bounce_source_of ON bounce_source (workspace_id, id);
CREATE INDEX bounce_source_due ON bounce_source (looked_at) WHERE kind = 'mailbox';

-- A mailing that is sent later: its watch begins with the first message that comes back.
ALTER TABLE mailing ADD COLUMN send_later boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE mailing DROP COLUMN send_later;
DROP TABLE bounce_source;
