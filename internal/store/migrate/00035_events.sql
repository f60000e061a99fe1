-- +goose Up

-- What happened that somebody may want to know, written in the transaction that made it so.
-- One without a workspace is the installation's, or is for one person alone.
CREATE TABLE event (
    seq          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    id           uuid NOT NULL UNIQUE DEFAULT gen_random_uuid(),  -- by which receivers know repeats
    workspace_id bigint REFERENCES workspace ON DELETE CASCADE,
    person_id    bigint REFERENCES person ON DELETE CASCADE,
    code         text NOT NULL,
    thing        text NOT NULL,                 -- what it is about, such as runs/12
    data         jsonb NOT NULL,
    subject      text NOT NULL,
    says         text NOT NULL,
    quiet        boolean NOT NULL,              -- no notice and no letter: what it is part of is told
    at           timestamptz NOT NULL DEFAULT now(),
    told_at      timestamptz                    -- when it became notices, letters and webhooks
);
CREATE INDEX event_workspace ON event (workspace_id, seq);
CREATE INDEX event_person ON event (person_id, seq) WHERE person_id IS NOT NULL;
CREATE INDEX event_at ON event (at);
CREATE INDEX event_thing ON event (thing, code);

-- What of it a person has seen as notices: of a workspace all up to a number, and some beyond.
-- Here and below workspace 0 stands for what belongs to none.
CREATE TABLE notices_seen (
    person_id    bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    workspace_id bigint NOT NULL,
    upto         bigint NOT NULL,
    PRIMARY KEY (person_id, workspace_id)
);
CREATE TABLE notice_seen (
    person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    seq       bigint NOT NULL REFERENCES event (seq) ON DELETE CASCADE,
    PRIMARY KEY (person_id, seq)
);
CREATE INDEX notice_seen_seq ON notice_seen (seq);

-- How a person wants letters about the events of a workspace.
CREATE TABLE letter_choice (
    person_id    bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    workspace_id bigint NOT NULL,
    code         text NOT NULL,
    choice       text NOT NULL,                 -- never, at once or daily
    PRIMARY KEY (person_id, workspace_id, code)
);
ALTER TABLE person
    ADD COLUMN zone        text NOT NULL DEFAULT 'UTC',        -- in which the day of the daily letter is
    ADD COLUMN daily_hour  int  NOT NULL DEFAULT 7 CHECK (daily_hour BETWEEN 0 AND 23),
    ADD COLUMN with_report boolean NOT NULL DEFAULT false;     -- letters about runs have the report attached

-- What waits for a person's daily letter, and when that goes.
CREATE TABLE daily_letter (
    person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    seq       bigint NOT NULL REFERENCES event (seq) ON DELETE CASCADE,
    due_at    timestamptz NOT NULL,
    PRIMARY KEY (person_id, seq)
);
CREATE INDEX daily_letter_due ON daily_letter (due_at);
CREATE INDEX daily_letter_seq ON daily_letter (seq);

CREATE TABLE webhook (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id  bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    url           text NOT NULL,
    codes         text[] NOT NULL,              -- the events that it is told of
    sealed        bytea NOT NULL,               -- its secret
    before        bytea,                        -- the one before, while both sign
    before_until  timestamptz,
    failing_since timestamptz,                  -- null: the last delivery was taken
    off_at        timestamptz,                  -- null: it is on
    off_why       text NOT NULL DEFAULT '',
    created_at    timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX webhook_workspace ON webhook (workspace_id);

CREATE TABLE delivery (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    webhook_id bigint NOT NULL REFERENCES webhook ON DELETE CASCADE,
    seq        bigint NOT NULL REFERENCES event (seq) ON DELETE CASCADE,
    thing      text NOT NULL,                   -- in whose order it is delivered
    state      text NOT NULL DEFAULT 'waiting', -- waiting, delivered or failed
    attempts   int NOT NULL DEFAULT 0,
    created_at timestamptz NOT NULL DEFAULT now(),
    next_at    timestamptz,                     -- when it is tried again
    ended_at   timestamptz,
    UNIQUE (webhook_id, seq)
);
CREATE INDEX delivery_waiting ON delivery (webhook_id, thing, id) WHERE state = 'waiting';
CREATE INDEX delivery_seq ON delivery (seq);

CREATE TABLE delivery_attempt (
    delivery_id bigint NOT NULL REFERENCES delivery ON DELETE CASCADE,
    number      int NOT NULL,
    at          timestamptz NOT NULL DEFAULT now(),
    took_ms     int NOT NULL,
    request     text NOT NULL,                  -- its headers and body
    status      int NOT NULL,                   -- 0: no answer came
    answer      text NOT NULL,                  -- the beginning of what came back
    problem     text NOT NULL,
    PRIMARY KEY (delivery_id, number)
);

-- When it was told that a list or key ends soon.
ALTER TABLE list ADD COLUMN end_told_at timestamptz;
ALTER TABLE key ADD COLUMN end_told_at timestamptz;

-- Who watches is told once an event is told: 0 stands for every workspace.
-- +goose StatementBegin
CREATE FUNCTION tell_event() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('varnet_change', coalesce(NEW.workspace_id, 0) || ' event ' || NEW.seq);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER tell AFTER UPDATE OF told_at ON event FOR EACH ROW EXECUTE FUNCTION tell_event();

-- +goose Down
DROP TABLE delivery_attempt, delivery, webhook, daily_letter, letter_choice, notice_seen, notices_seen, event;
DROP FUNCTION tell_event;
ALTER TABLE list DROP COLUMN end_told_at;
ALTER TABLE key DROP COLUMN end_told_at;
ALTER TABLE person DROP COLUMN zone, DROP COLUMN daily_hour, DROP COLUMN with_report;
