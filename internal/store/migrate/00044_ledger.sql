-- +goose Up

-- What a workspace gets and pays.
CREATE TABLE plan (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name        text NOT NULL,
    terms       json NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    archived_at timestamptz
);
CREATE UNIQUE INDEX plan_name ON plan (lower(name)) WHERE archived_at IS NULL;

-- The workspaces of which an allowance is kept; the others may check as much as they like.
CREATE TABLE allowance (
    workspace_id  bigint PRIMARY KEY REFERENCES workspace ON DELETE CASCADE,
    plan_id       bigint NOT NULL REFERENCES plan,
    kept          boolean NOT NULL DEFAULT true,
    since         timestamptz NOT NULL,        -- months are counted from here
    grants        int NOT NULL DEFAULT 0,      -- of the plan that came
    low           bigint NOT NULL DEFAULT 0,   -- under so many somebody is told, 0: never
    low_told      boolean NOT NULL DEFAULT false,
    refill        json,                        -- the rule by which checks are bought by themselves
    method        text NOT NULL DEFAULT '',    -- what the stored way to pay is called, '': there is none
    method_sealed bytea,                       -- the provider's token of it
    subscription  bigint NOT NULL DEFAULT 0,   -- checks bought each month, 0: none
    subscribed_at timestamptz,
    renewals      int NOT NULL DEFAULT 0,      -- months of the subscription that were ordered
    buyer         json                         -- whom invoices are made out to
);

-- Checks that came at once. What is left of them is what is available.
CREATE TABLE lot (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL,
    source       text NOT NULL,
    amount       bigint NOT NULL CHECK (amount > 0),
    remaining    bigint NOT NULL DEFAULT 0 CHECK (remaining >= 0),
    expires_at   timestamptz,
    added_at     timestamptz NOT NULL
);
CREATE INDEX lot_remaining ON lot (workspace_id) WHERE remaining > 0;
CREATE INDEX lot_expiry ON lot (expires_at) WHERE remaining > 0 AND expires_at IS NOT NULL;

-- What is set aside for a run or a check: open, or closed with what it was charged.
CREATE TABLE reservation (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id  bigint NOT NULL,
    what          text NOT NULL,               -- run, again or check
    run_id        bigint,                      -- it may be gone
    list          text NOT NULL DEFAULT '',    -- what its list was called
    person_id     bigint,
    key_id        bigint,
    routine_id    bigint,
    connection_id bigint,
    cost_syntax   bigint NOT NULL,
    cost_domain   bigint NOT NULL,
    cost_mailbox  bigint NOT NULL,
    reserved      bigint NOT NULL,
    taken         json NOT NULL DEFAULT '[]',  -- of which lots
    charged       bigint NOT NULL DEFAULT 0,   -- once it is closed
    at            timestamptz NOT NULL,
    closed_at     timestamptz
);
CREATE INDEX reservation_run ON reservation (run_id) WHERE run_id IS NOT NULL;
CREATE INDEX reservation_open ON reservation (workspace_id) WHERE closed_at IS NULL;
CREATE INDEX reservation_time ON reservation (workspace_id, at);

-- The book: every change of an allowance, for ever. It has no foreign keys, so that it outlives
-- what it is about.
CREATE TABLE ledger_entry (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id   bigint NOT NULL,
    at             timestamptz NOT NULL,
    from_account   text NOT NULL,
    to_account     text NOT NULL CHECK (to_account <> from_account),
    amount         bigint NOT NULL CHECK (amount > 0),
    why            text NOT NULL,
    reservation_id bigint,
    lot_id         bigint,
    note           text NOT NULL DEFAULT ''
);
CREATE INDEX ledger_entry_time ON ledger_entry (workspace_id, at, id);
CREATE INDEX ledger_entry_reservation ON ledger_entry (reservation_id) WHERE reservation_id IS NOT NULL;

-- +goose StatementBegin
CREATE FUNCTION ledger_stays() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the ledger is only added to: correct an entry by another one';
END $$;
-- +goose StatementEnd
CREATE TRIGGER ledger_stays BEFORE UPDATE OR DELETE OR TRUNCATE ON ledger_entry FOR EACH STATEMENT EXECUTE FUNCTION ledger_stays();

-- The two sides of each entry.
CREATE VIEW ledger_side AS
    SELECT id, workspace_id, at, from_account AS account, -amount AS amount, why, reservation_id, lot_id FROM ledger_entry
    UNION ALL
    SELECT id, workspace_id, at, to_account, amount, why, reservation_id, lot_id FROM ledger_entry;

-- What was bought.
CREATE TABLE purchase (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL,
    why          text NOT NULL,                -- top-up, refill or subscription
    checks       bigint NOT NULL CHECK (checks > 0),
    currency     text NOT NULL,
    net          bigint NOT NULL CHECK (net >= 0),
    tax          json NOT NULL,
    total        bigint NOT NULL CHECK (total >= net),
    lines        json NOT NULL,
    cheaper      bigint NOT NULL DEFAULT 0,    -- by so many percent
    seller       json NOT NULL,
    buyer        json NOT NULL,
    state        text NOT NULL,
    says         text NOT NULL DEFAULT '',     -- why it was refused, in the provider's words
    reference    text NOT NULL UNIQUE,         -- by which the provider knows it
    payment      text NOT NULL DEFAULT '',     -- by which it was paid
    page         text NOT NULL DEFAULT '',     -- where it is paid
    lot_id       bigint,
    withdrawn    bigint NOT NULL DEFAULT 0,    -- checks that were taken back
    person_id    bigint,
    made_at      timestamptz NOT NULL,
    paid_at      timestamptz
);
CREATE INDEX purchase_workspace ON purchase (workspace_id, id);

-- Invoices and credit notes, with running numbers.
CREATE TABLE invoice (
    kind         text NOT NULL,                -- invoice or credit note
    number       bigint NOT NULL,
    workspace_id bigint NOT NULL,
    purchase_id  bigint NOT NULL REFERENCES purchase,
    made_at      timestamptz NOT NULL,
    PRIMARY KEY (kind, number),
    UNIQUE (purchase_id, kind)
);

-- The calls of the provider that were taken, by their ids.
CREATE TABLE payment_call (
    id          text PRIMARY KEY,
    reference   text NOT NULL,
    kind        text NOT NULL,
    payment     text NOT NULL,
    did         text NOT NULL,                 -- what it changed
    at          timestamptz NOT NULL
);

-- How the installation is paid.
CREATE TABLE billing (
    one            boolean PRIMARY KEY DEFAULT true CHECK (one),
    provider       text NOT NULL DEFAULT '',   -- its address, '': nothing can be bought
    secret_sealed  bytea,
    seller         json,
    taxes          json NOT NULL DEFAULT '[]',
    invoices       bigint NOT NULL DEFAULT 0,  -- the last number
    credit_notes   bigint NOT NULL DEFAULT 0,
    default_plan   bigint REFERENCES plan      -- of new workspaces; null: none is kept of them
);
INSERT INTO billing DEFAULT VALUES;

ALTER TABLE run ADD COLUMN urgent boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE run DROP COLUMN urgent;
DROP TABLE billing;
DROP TABLE payment_call;
DROP TABLE invoice;
DROP TABLE purchase;
DROP VIEW ledger_side;
DROP TABLE ledger_entry;
DROP FUNCTION ledger_stays();
DROP TABLE reservation;
DROP TABLE lot;
DROP TABLE allowance;
DROP TABLE plan;
