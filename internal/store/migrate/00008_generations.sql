-- +goose Up

-- A list that was brought in again is a list of its own, beside the earlier one
-- that its runs belong to.
ALTER TABLE list ADD earlier_id bigint REFERENCES list ON DELETE SET NULL, ADD added bigint NOT NULL DEFAULT 0, ADD changed bigint NOT NULL DEFAULT 0;
CREATE INDEX list_earlier ON list (earlier_id) WHERE earlier_id IS NOT NULL;

-- Days for which results of earlier runs are taken over; 0: none are.
ALTER TABLE run ADD reuse_days int NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE run DROP reuse_days;
ALTER TABLE list DROP earlier_id, DROP added, DROP changed;
