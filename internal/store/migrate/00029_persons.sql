-- +goose Up

-- Persons sign in, work together in workspaces and leave an audit trail. The table
-- console_session stays until no release that knows it can run beside this one.

CREATE TABLE person (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    address    text NOT NULL,                   -- as it was written
    canonical  text NOT NULL UNIQUE,
    name       text NOT NULL,
    password   text,                            -- argon2id in PHC form; null: signs in otherwise
    owner      boolean NOT NULL DEFAULT false,  -- of the installation
    totp       bytea,                           -- the secret of the second factor, sealed; null: none
    totp_step  bigint NOT NULL DEFAULT 0,       -- the latest step used (RFC 6238), which is not taken again
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE recovery_code (
    person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    hash      bytea NOT NULL,
    PRIMARY KEY (person_id, hash)
);

CREATE TABLE passkey (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    person_id    bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    name         text NOT NULL,
    credential   bytea NOT NULL UNIQUE,         -- its id (WebAuthn)
    record       text NOT NULL,                 -- its public key, counter and flags, as JSON
    created_at   timestamptz NOT NULL DEFAULT now(),
    last_used_at timestamptz
);
CREATE INDEX passkey_person ON passkey (person_id);

-- Who a person is at the installation's sign-in provider (OpenID Connect).
CREATE TABLE provider_account (
    issuer    text NOT NULL,
    subject   text NOT NULL,
    person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    PRIMARY KEY (issuer, subject)
);
CREATE INDEX provider_account_person ON provider_account (person_id);

ALTER TABLE workspace
    DROP CONSTRAINT workspace_name_key,                        -- teams do not know of each other
    ADD COLUMN second_factor  boolean NOT NULL DEFAULT false,  -- its people must have one
    ADD COLUMN rules          jsonb NOT NULL DEFAULT '[]',     -- its own, which ask less far than those for all
    ADD COLUMN readers_export boolean NOT NULL DEFAULT false,
    ADD COLUMN max_rows       bigint;                          -- of all its lists; null: any number

CREATE TABLE member (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    person_id    bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    role         text NOT NULL,                 -- owner, manager, member or reader
    joined_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (workspace_id, person_id)
);
CREATE INDEX member_person ON member (person_id);

CREATE TABLE invitation (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    address      text NOT NULL,
    canonical    text NOT NULL,
    role         text NOT NULL,
    hash         bytea NOT NULL UNIQUE,         -- of the secret in its link
    invited_by   bigint REFERENCES person ON DELETE SET NULL,
    created_at   timestamptz NOT NULL DEFAULT now(),
    expires_at   timestamptz NOT NULL,
    UNIQUE (workspace_id, canonical)
);
CREATE INDEX invitation_invited_by ON invitation (invited_by) WHERE invited_by IS NOT NULL;

CREATE TABLE person_session (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hash         bytea NOT NULL UNIQUE,
    person_id    bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    workspace_id bigint REFERENCES workspace ON DELETE SET NULL,  -- the one the person is at work in
    device       text NOT NULL,
    place        inet NOT NULL,                 -- from where it was used last
    command_line boolean NOT NULL DEFAULT false,
    created_at   timestamptz NOT NULL DEFAULT now(),
    seen_at      timestamptz NOT NULL DEFAULT now(),
    confirmed_at timestamptz NOT NULL DEFAULT now(),  -- when the person last proved who they are
    expires_at   timestamptz NOT NULL
);
CREATE INDEX person_session_person ON person_session (person_id);
CREATE INDEX person_session_workspace ON person_session (workspace_id) WHERE workspace_id IS NOT NULL;

-- Browsers that a person has signed in with; a letter tells of others.
CREATE TABLE person_device (
    person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    hash      bytea NOT NULL,
    seen_at   timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (person_id, hash)
);

-- What is between two steps of signing in: whoever has its secret may go on.
CREATE TABLE ticket (
    hash       bytea PRIMARY KEY,
    kind       text NOT NULL,
    person_id  bigint REFERENCES person ON DELETE CASCADE,
    code       bytea,                           -- keyed hash of the code that goes with it
    tries      int NOT NULL DEFAULT 0,          -- wrong codes so far
    data       bytea,                           -- sealed
    at         timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);
CREATE INDEX ticket_expires_at ON ticket (expires_at);
CREATE INDEX ticket_person ON ticket (person_id) WHERE person_id IS NOT NULL;
CREATE UNIQUE INDEX ticket_device ON ticket (code) WHERE kind = 'device';

-- Failures to sign in, by what was tried (keyed hashes: no address stands here).
CREATE TABLE attempt (
    subject       bytea PRIMARY KEY,
    failures      int NOT NULL,
    at            timestamptz NOT NULL DEFAULT now(),
    blocked_until timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX attempt_at ON attempt (at);

-- What the owner of the installation has set.
CREATE TABLE installation (
    one             boolean PRIMARY KEY DEFAULT true CHECK (one),
    sign_up         text NOT NULL DEFAULT 'invitation',          -- open, invitation or closed
    audit_days      int NOT NULL DEFAULT 400 CHECK (audit_days >= 30),
    max_keep_days   int,                                         -- for how long lists may be kept at most; null: any time
    provider_name   text NOT NULL DEFAULT '',
    provider_issuer text NOT NULL DEFAULT '',                    -- "": no sign-in provider
    provider_client text NOT NULL DEFAULT '',
    provider_sealed bytea
);
INSERT INTO installation DEFAULT VALUES;

-- Keys that looked after the installation by their workspace do so by a scope of their own.
UPDATE key SET scopes = scopes || 'installation'::text FROM workspace w
 WHERE w.id = key.workspace_id AND w.keeper AND 'manage' = ANY (key.scopes);
ALTER TABLE key ADD COLUMN made_by_person bigint REFERENCES person ON DELETE SET NULL;
CREATE INDEX key_made_by_person ON key (made_by_person) WHERE made_by_person IS NOT NULL;

-- The audit trail. An entry is the JSON in body as it was written; its hash is of the hash
-- before it and the body, so that none can be changed, taken out or put in between unseen.
-- It outlives the workspaces and persons it names by number.
CREATE TABLE audit (
    seq          bigint PRIMARY KEY,
    body         text NOT NULL,
    before       bytea NOT NULL,
    hash         bytea NOT NULL,
    at           bigint GENERATED ALWAYS AS ((body::jsonb ->> 'at')::bigint) STORED,  -- microseconds since 1970
    workspace_id bigint GENERATED ALWAYS AS ((body::jsonb ->> 'workspace')::bigint) STORED,
    person_id    bigint GENERATED ALWAYS AS ((body::jsonb ->> 'person')::bigint) STORED,
    action       text GENERATED ALWAYS AS (body::jsonb ->> 'action') STORED
);
CREATE INDEX audit_workspace ON audit (workspace_id, seq);
CREATE INDEX audit_at ON audit (at);

-- +goose StatementBegin
CREATE FUNCTION audit_is_kept() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        IF to_timestamp(OLD.at / 1e6) < now() - (SELECT audit_days FROM installation) * interval '1 day' THEN
            RETURN OLD;
        END IF;
    END IF;
    RAISE EXCEPTION 'the audit trail is not changed, and entries are kept for their time';
END $$;
-- +goose StatementEnd
CREATE TRIGGER kept BEFORE UPDATE OR DELETE ON audit FOR EACH ROW EXECUTE FUNCTION audit_is_kept();
CREATE TRIGGER whole BEFORE TRUNCATE ON audit FOR EACH STATEMENT EXECUTE FUNCTION audit_is_kept();
REVOKE UPDATE, TRUNCATE ON audit FROM CURRENT_USER;

-- +goose Down
DROP TABLE audit, installation, attempt, ticket, person_device, person_session, invitation, member, provider_account, passkey, recovery_code;
DROP FUNCTION audit_is_kept;
ALTER TABLE key DROP COLUMN made_by_person;
ALTER TABLE workspace DROP COLUMN second_factor, DROP COLUMN rules, DROP COLUMN readers_export, DROP COLUMN max_rows;
UPDATE key SET scopes = array_remove(scopes, 'installation');
DROP TABLE person;
