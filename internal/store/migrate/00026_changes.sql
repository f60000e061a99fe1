-- +goose Up

-- Whoever watches a workspace is told on the channel varnet_change what has changed in it:
-- "WORKSPACE KIND NUMBER", when the transaction that changed it is committed, the same thing
-- once a transaction.

-- +goose StatementBegin
CREATE FUNCTION tell_change() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    changed record;
BEGIN
    IF TG_OP = 'DELETE' THEN changed := OLD; ELSE changed := NEW; END IF;
    PERFORM pg_notify('varnet_change', changed.workspace_id || ' ' || TG_ARGV[0] || ' ' || changed.id);
    RETURN NULL;
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE FUNCTION tell_list_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('varnet_change', list.workspace_id || ' list ' || list.id)
       FROM list WHERE list.id IN (SELECT list_id FROM changed);
    RETURN NULL;
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE FUNCTION tell_run_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('varnet_change', run.workspace_id || ' run ' || run.id) FROM run WHERE run.id = NEW.run_id;
    RETURN NULL;
END $$;
-- +goose StatementEnd

CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON list FOR EACH ROW EXECUTE FUNCTION tell_change('list');
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON run FOR EACH ROW EXECUTE FUNCTION tell_change('run');
CREATE TRIGGER tell AFTER INSERT OR UPDATE ON run_notice FOR EACH ROW EXECUTE FUNCTION tell_run_change();
CREATE TRIGGER tell_insert AFTER INSERT ON estimate REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION tell_list_change();
CREATE TRIGGER tell_update AFTER UPDATE ON estimate REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION tell_list_change();
CREATE TRIGGER tell_insert AFTER INSERT ON by_hand REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION tell_list_change();
CREATE TRIGGER tell_update AFTER UPDATE ON by_hand REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION tell_list_change();
CREATE TRIGGER tell_delete AFTER DELETE ON by_hand REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION tell_list_change();

-- +goose Down
DROP TRIGGER tell ON list;
DROP TRIGGER tell ON run;
DROP TRIGGER tell ON run_notice;
DROP TRIGGER tell_insert ON estimate;
DROP TRIGGER tell_update ON estimate;
DROP TRIGGER tell_insert ON by_hand;
DROP TRIGGER tell_update ON by_hand;
DROP TRIGGER tell_delete ON by_hand;
DROP FUNCTION tell_change, tell_list_change, tell_run_change;
