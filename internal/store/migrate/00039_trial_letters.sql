-- +goose Up

-- By whom and how a workspace sends trial letters.
CREATE TABLE trial_sender (
    workspace_id bigint PRIMARY KEY REFERENCES workspace ON DELETE CASCADE,
    allowed_at   timestamptz,                  -- null: its owner has not turned them on
    allowed_by   text NOT NULL DEFAULT '',
    host         text NOT NULL DEFAULT '',     -- of its submission server; '': none is set
    port         int NOT NULL DEFAULT 0,
    security     text NOT NULL DEFAULT '',
    username     text NOT NULL DEFAULT '',
    sealed       bytea,                        -- its password
    sender       text NOT NULL DEFAULT '',     -- as people see it, with its name
    returns      text NOT NULL DEFAULT '',     -- the mailbox that bounces come to; '': to Varnet itself
    servers      text[] NOT NULL DEFAULT '{}', -- the addresses that the letters leave from
    selector     text NOT NULL DEFAULT '',     -- of the DKIM key; '': the letters are not signed
    key          bytea,                        -- the private key, sealed
    record       text NOT NULL DEFAULT '',     -- the public key, as its DNS record
    daily        int NOT NULL DEFAULT 0,       -- how many letters within 24 hours
    outcome      jsonb,                        -- what its last test found; null: it was not tested as it is
    tested_at    timestamptz
);

-- The text of a mailing that is trial letters, and the lawful reason.
ALTER TABLE mailing ADD COLUMN trial jsonb;

-- Where each trial letter stands.
CREATE TABLE trial_letter (
    mailing_id bigint NOT NULL,
    number     int NOT NULL,
    operator   text NOT NULL,
    state      text NOT NULL DEFAULT 'waiting', -- waiting, sending, sent, refused, left out
    at         timestamptz,                     -- when it got there
    says       text NOT NULL DEFAULT '',        -- of the submission server, where it was refused
    unsubscribed_at timestamptz,                -- when the person unsubscribed
    PRIMARY KEY (mailing_id, number),
    FOREIGN KEY (mailing_id, number) REFERENCES mailed ON DELETE CASCADE
);
CREATE INDEX trial_letter_open ON trial_letter (mailing_id, operator, number) WHERE state = 'waiting';

-- Who had their trial letter: each address gets one, ever.
CREATE TABLE trial_sent (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    fingerprint  bytea NOT NULL,
    secret       bytea,
    operator     text NOT NULL,
    at           timestamptz NOT NULL,
    PRIMARY KEY (workspace_id, fingerprint)
);
CREATE INDEX trial_sent_newest ON trial_sent (workspace_id, at);
CREATE INDEX trial_sent_operator ON trial_sent (operator, at);

-- +goose Down
DROP TABLE trial_sent, trial_letter, trial_sender;
ALTER TABLE mailing DROP COLUMN trial;
