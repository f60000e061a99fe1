-- +goose Up

-- Standing orders: read a source, verify what is new or stale, write the result.
CREATE TABLE routine (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name         text NOT NULL,
    spec         jsonb NOT NULL,
    paused_at    timestamptz,
    next_at      timestamptz,                 -- null: not by the calendar
    look_at      timestamptz,                 -- when its source is looked at for a change; null: never
    tag          text NOT NULL DEFAULT '',    -- of what was read last
    list_id      bigint REFERENCES list ON DELETE SET NULL,  -- what that became
    created_at   timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX routine_workspace ON routine (workspace_id);
CREATE INDEX routine_next ON routine (next_at) WHERE paused_at IS NULL;
CREATE INDEX routine_look ON routine (look_at) WHERE paused_at IS NULL AND look_at IS NOT NULL;
CREATE INDEX routine_list ON routine (list_id) WHERE list_id IS NOT NULL;

-- Each time that one was due. Two of a routine are never at work at once.
CREATE TABLE routine_time (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    routine_id bigint NOT NULL REFERENCES routine ON DELETE CASCADE,
    number     int NOT NULL,
    due_at     timestamptz NOT NULL,
    missed     int NOT NULL DEFAULT 0,        -- times before it that it stands for
    why        text NOT NULL,                 -- calendar, change or person
    dry        boolean NOT NULL DEFAULT false,
    state      text NOT NULL,                 -- reading, verifying, held, approved, writing, done, failed, left or not run
    list_id    bigint REFERENCES list ON DELETE SET NULL,
    run_id     bigint REFERENCES run ON DELETE SET NULL,
    record     jsonb NOT NULL DEFAULT '{}',
    says       text NOT NULL DEFAULT '',
    begun_at   timestamptz NOT NULL DEFAULT now(),
    ended_at   timestamptz,
    UNIQUE (routine_id, number)
);
CREATE UNIQUE INDEX routine_time_at_work ON routine_time (routine_id) WHERE ended_at IS NULL;
CREATE UNIQUE INDEX routine_time_run ON routine_time (run_id) WHERE run_id IS NOT NULL;
CREATE INDEX routine_time_list ON routine_time (list_id) WHERE list_id IS NOT NULL;

-- For how many days results are taken over, by their finding; null: by reuse_days.
ALTER TABLE run ADD COLUMN ages jsonb;

CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON routine FOR EACH ROW EXECUTE FUNCTION tell_change('routine');
-- +goose StatementBegin
CREATE FUNCTION tell_routine_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('varnet_change', routine.workspace_id || ' routine ' || routine.id) FROM routine WHERE routine.id = NEW.routine_id;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER tell AFTER INSERT OR UPDATE ON routine_time FOR EACH ROW EXECUTE FUNCTION tell_routine_change();

-- +goose Down
DROP TABLE routine_time, routine;
DROP FUNCTION tell_routine_change;
ALTER TABLE run DROP COLUMN ages;
