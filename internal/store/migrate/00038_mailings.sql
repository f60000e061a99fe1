-- +goose Up

-- Messages really sent: to whom, and what became of each.
CREATE TABLE mailing (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name         text NOT NULL,
    list_id      bigint REFERENCES list ON DELETE SET NULL,
    run_id       bigint REFERENCES run ON DELETE SET NULL,
    sent_at      timestamptz NOT NULL,
    watch_hours  int NOT NULL,
    state        text NOT NULL,               -- preparing, watching, closed
    decisions    text[] NOT NULL DEFAULT '{}', -- of the rows that it went to
    letters      bigint NOT NULL DEFAULT 0,   -- that were sent
    says         text NOT NULL DEFAULT '',    -- why it could not be prepared
    told         boolean NOT NULL DEFAULT false, -- that many bounced
    by_whom      text NOT NULL DEFAULT '',
    created_at   timestamptz NOT NULL DEFAULT now(),
    closed_at    timestamptz
);
CREATE INDEX mailing_of ON mailing (workspace_id, id);
CREATE INDEX mailing_open ON mailing (state) WHERE state <> 'closed';

-- One letter of a mailing: to which address, what had been said of it, what came of it.
CREATE TABLE mailed (
    mailing_id   bigint NOT NULL REFERENCES mailing ON DELETE CASCADE,
    number       int NOT NULL,
    workspace_id bigint NOT NULL,
    mailbox      text NOT NULL,
    canonical    text NOT NULL,
    domain       text NOT NULL,
    said         int NOT NULL DEFAULT 0,      -- the verdict it had when it was mailed; 0: none
    tag          text,                        -- of its return address
    message_id   text,
    outcome      text NOT NULL DEFAULT '',    -- bounced, delayed, complained, no bounce; '': not known yet
    permanent    boolean NOT NULL DEFAULT false,
    about        text NOT NULL DEFAULT '',
    cause        text NOT NULL DEFAULT '',
    final        text NOT NULL DEFAULT '',    -- where it was forwarded to
    words        text NOT NULL DEFAULT '',    -- of the host, verbatim
    host         text NOT NULL DEFAULT '',
    at           timestamptz,
    returned_id  bigint,
    heard        int NOT NULL DEFAULT 0,      -- messages that came back about it
    PRIMARY KEY (mailing_id, number)
);
CREATE UNIQUE INDEX mailed_once ON mailed (mailing_id, canonical);
CREATE INDEX mailed_address ON mailed (workspace_id, canonical);
CREATE INDEX mailed_tag ON mailed (workspace_id, tag) WHERE tag IS NOT NULL;
CREATE INDEX mailed_message ON mailed (workspace_id, message_id) WHERE message_id IS NOT NULL;
CREATE INDEX mailed_outcome ON mailed (mailing_id, outcome, number);

-- Messages that came back, each once.
CREATE TABLE returned (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    way          text NOT NULL,               -- by which it came: file, return address
    digest       bytea NOT NULL,
    kind         text NOT NULL,
    at           timestamptz,
    received_at  timestamptz NOT NULL DEFAULT now(),
    sender       text NOT NULL,
    host         text NOT NULL,
    subject      text NOT NULL,
    words        text NOT NULL,
    credited     int NOT NULL,
    says         text NOT NULL DEFAULT ''     -- why nobody is credited
);
CREATE UNIQUE INDEX returned_once ON returned (workspace_id, digest);
CREATE INDEX returned_newest ON returned (workspace_id, id);

-- What is known of addresses by the messages that were sent to them. It outlives lists and
-- mailings, and so holds no address, only a fingerprint.
CREATE TABLE outcome (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    fingerprint  bytea NOT NULL,
    secret       bytea,
    outcome      text NOT NULL,
    permanent    boolean NOT NULL,
    at           timestamptz NOT NULL,
    words        text NOT NULL,               -- of the host, without the address
    host         text NOT NULL,
    times        int NOT NULL DEFAULT 1,      -- how many messages had an outcome like it
    PRIMARY KEY (workspace_id, fingerprint)
);

-- Messages to return addresses that were refused for a wrong tag, by hour.
CREATE TABLE return_refused (
    hour    timestamptz PRIMARY KEY,
    refused bigint NOT NULL
);

-- How the tables of a sending tool are read that have certain columns.
CREATE TABLE outcome_mapping (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    columns      text NOT NULL,               -- their names in lower case, a line each
    mapping      jsonb NOT NULL,
    PRIMARY KEY (workspace_id, columns)
);

CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON mailing FOR EACH ROW EXECUTE FUNCTION tell_change('mailing');

-- +goose Down
DROP TABLE outcome_mapping, return_refused, outcome, returned, mailed, mailing;
