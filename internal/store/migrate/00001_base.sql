-- +goose Up

-- Every record of a person belongs to a workspace; workspaces never mix.
CREATE TABLE workspace (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- Keys are kept as SHA-256 of their 256 random bits.
CREATE TABLE key (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name         text NOT NULL,
    hash         bytea NOT NULL UNIQUE,
    created_at   timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE console_session (
    hash       bytea PRIMARY KEY,
    key_id     bigint NOT NULL REFERENCES key ON DELETE CASCADE,
    expires_at timestamptz NOT NULL
);

CREATE TABLE list (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id   bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name           text NOT NULL,
    file_name      text NOT NULL,
    dialect        jsonb NOT NULL,
    columns        text[] NOT NULL,
    address_column int NOT NULL,
    header         bytea NOT NULL,             -- the header record as it stood, with all before it
    rows           bigint NOT NULL DEFAULT 0,
    addresses      bigint NOT NULL DEFAULT 0,  -- different ones, well formed
    malformed      bigint NOT NULL DEFAULT 0,  -- different texts that are no address
    duplicates     bigint NOT NULL DEFAULT 0,  -- rows whose address stands in an earlier row
    blank          bigint NOT NULL DEFAULT 0,  -- rows whose address cell is empty
    mended         bigint NOT NULL DEFAULT 0,
    created_at     timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX list_workspace ON list (workspace_id, id);

-- A row keeps its record as it stood in the file. The first row with an
-- address stands for that address: its ordinal is the address's number.
CREATE TABLE list_row (
    list_id bigint NOT NULL REFERENCES list ON DELETE CASCADE,
    ordinal int NOT NULL,
    line    bigint NOT NULL,
    raw     bytea NOT NULL,
    tail    bytea,            -- blank lines after it
    typed   text NOT NULL,    -- the address cell
    address int,              -- ordinal of the first row with it; null: the cell is empty
    mailbox text,             -- on that first row only, as are the next four
    domain  text,             -- null with an address: the text is malformed
    traits  text[],
    mended  text[],
    problem jsonb,            -- why it is malformed
    PRIMARY KEY (list_id, ordinal)
);
CREATE INDEX list_row_domain ON list_row (list_id, domain) WHERE address = ordinal;

CREATE TABLE list_domain (
    list_id   bigint NOT NULL REFERENCES list ON DELETE CASCADE,
    domain    text NOT NULL,
    addresses int NOT NULL,
    PRIMARY KEY (list_id, addresses, domain)
);

CREATE TABLE run (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    list_id      bigint NOT NULL REFERENCES list ON DELETE CASCADE,
    depth        text NOT NULL CHECK (depth IN ('syntax', 'domain', 'mailbox')),
    policy       text NOT NULL,
    state        text NOT NULL CHECK (state IN ('running', 'finished', 'stopped')),
    plan         jsonb NOT NULL DEFAULT '{}',   -- how far the planning came
    created_at   timestamptz NOT NULL DEFAULT now(),
    finished_at  timestamptz
);
CREATE INDEX run_workspace ON run (workspace_id, id);
CREATE INDEX run_list ON run (list_id, id);

-- What the name service said of a domain when the run was planned.
CREATE TABLE run_domain (
    run_id   bigint NOT NULL REFERENCES run ON DELETE CASCADE,
    domain   text NOT NULL,
    operator text NOT NULL,
    facts    jsonb NOT NULL,
    PRIMARY KEY (run_id, domain)
);

-- A parcel is the unit of work: its results are written in the transaction
-- that marks it done.
CREATE TABLE parcel (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    run_id     bigint NOT NULL REFERENCES run ON DELETE CASCADE,
    lane_key   text NOT NULL,
    turn       int NOT NULL,          -- the how-manieth of its run for this lane key: runs take turns
    round      int NOT NULL,
    addresses  int NOT NULL,
    questions  jsonb NOT NULL,
    not_before timestamptz NOT NULL,
    state      text NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'claimed', 'done', 'void')),
    lane       int,                   -- who claimed it
    record     jsonb,                 -- the conversations, once for all its addresses
    done_at    timestamptz
);
CREATE INDEX parcel_open ON parcel (lane_key, turn, id) WHERE state = 'open';
CREATE INDEX parcel_claimed ON parcel (lane_key, lane) WHERE state = 'claimed';
CREATE INDEX parcel_run ON parcel (run_id) WHERE state IN ('open', 'claimed');

CREATE TABLE verdict (
    id      int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    finding text NOT NULL,
    cause   text NOT NULL,
    traits  text[] NOT NULL,
    odds    real NOT NULL,
    UNIQUE (finding, cause, traits, odds)
);

-- One result for each address of a run: the primary key holds it to that.
CREATE TABLE result (
    run_id   bigint NOT NULL REFERENCES run ON DELETE CASCADE,
    address  int NOT NULL,
    verdict  int NOT NULL REFERENCES verdict,
    evidence jsonb NOT NULL,
    at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (run_id, address)
);
CREATE INDEX result_verdict ON result (run_id, verdict, address);

-- Progress is the sum of the parcels' tallies.
CREATE TABLE tally (
    run_id    bigint NOT NULL REFERENCES run ON DELETE CASCADE,
    verdict   int NOT NULL REFERENCES verdict,
    addresses int NOT NULL,
    at        timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX tally_run ON tally (run_id);

-- Facts about the outside world outlive runs.
CREATE TABLE operator (
    name text PRIMARY KEY,
    own  boolean NOT NULL DEFAULT false,  -- has lanes of its own
    pace jsonb NOT NULL
);
CREATE TABLE domain_fact (
    domain text PRIMARY KEY,
    manner jsonb NOT NULL
);

-- +goose Down
DROP TABLE domain_fact, operator, tally, result, verdict, parcel, run_domain, run, list_domain, list_row, list,
    console_session, key, workspace;
