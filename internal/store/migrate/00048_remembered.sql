-- +goose Up

-- When the absent mailboxes of a run were last remembered. A run is looked at once more when it
-- ended anew since, and within the hour in which conversations of its last moment may still be
-- recorded; so upkeep finds the few of them without a look at all.
ALTER TABLE run ADD COLUMN remembered_at timestamptz;
UPDATE run SET remembered_at = now() WHERE finished_at IS NOT NULL
	AND coalesce((plan->>'remembered')::bigint, 0) >= coalesce((SELECT max(id) FROM batch WHERE run_id = run.id), 0);
CREATE INDEX run_to_remember ON run (id) WHERE finished_at IS NOT NULL AND (remembered_at IS NULL OR remembered_at - finished_at < interval '1 hour');

-- +goose Down
DROP INDEX run_to_remember;
ALTER TABLE run DROP COLUMN remembered_at;
