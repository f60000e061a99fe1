-- +goose Up

-- The sending side belongs to the installation; one workspace looks after it.
ALTER TABLE workspace ADD keeper boolean NOT NULL DEFAULT false;
UPDATE workspace SET keeper = true WHERE id = (SELECT min(id) FROM workspace);

-- Identities, resolvers, routes and blocklists. What is confidential of one is
-- sealed with the installation's secret.
CREATE TABLE sending_part (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind       text NOT NULL CHECK (kind IN ('identity', 'resolver', 'route', 'blocklist')),
    name       text NOT NULL,
    spec       jsonb NOT NULL,
    sealed     bytea,
    rest_until timestamptz,      -- routes: left alone until then
    rests      int NOT NULL DEFAULT 0,
    rest_kind  text NOT NULL DEFAULT '',  -- refused or fails
    rest_why   text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (kind, name)
);

INSERT INTO sending_part (kind, name, spec) VALUES ('route', 'direct', '{"route": {"kind": "direct"}}');

-- What came of the last test of a part, whether it is kept here or told at the
-- start.
CREATE TABLE sending_outcome (
    kind    text NOT NULL,
    name    text NOT NULL,
    outcome jsonb NOT NULL,
    at      timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (kind, name)
);

-- What holds for the whole sending side: one record.
CREATE TABLE sending_setting (
    one       boolean PRIMARY KEY DEFAULT true CHECK (one),
    cap       int NOT NULL DEFAULT 4,
    reference text[] NOT NULL DEFAULT '{}',
    rules     jsonb NOT NULL DEFAULT '[]'
);
INSERT INTO sending_setting DEFAULT VALUES;

-- What an operator does with each of our routes: to it each is another client.
-- Route 0 is straight from this host, where every route was removed.
CREATE TABLE operator_route (
    operator      text NOT NULL,
    route_id      bigint NOT NULL,
    pace          jsonb NOT NULL,
    asked_at      timestamptz,
    blocked_at    timestamptz,
    blocked_until timestamptz,
    words         text NOT NULL DEFAULT '',  -- of the last refusal of us
    PRIMARY KEY (operator, route_id)
);
CREATE INDEX operator_route_asked ON operator_route (route_id, asked_at);
INSERT INTO operator_route (operator, route_id, pace) SELECT o.name, p.id, o.pace FROM operator o, sending_part p WHERE p.kind = 'route';
ALTER TABLE operator DROP pace;

-- What happened to the sending side during a run.
CREATE TABLE run_notice (
    run_id   bigint NOT NULL REFERENCES run ON DELETE CASCADE,
    at       timestamptz NOT NULL DEFAULT now(),
    kind     text NOT NULL CHECK (kind IN ('refused', 'rests', 'fails')),
    route    text NOT NULL,
    operator text NOT NULL DEFAULT '',
    words    text NOT NULL DEFAULT '',
    until    timestamptz,
    moved    boolean NOT NULL,          -- to another route
    PRIMARY KEY (run_id, kind, route, operator)
);

-- +goose Down
DROP TABLE run_notice, operator_route, sending_setting, sending_outcome, sending_part;
ALTER TABLE operator ADD pace jsonb NOT NULL DEFAULT '{"lanes": 1}';
ALTER TABLE workspace DROP keeper;
