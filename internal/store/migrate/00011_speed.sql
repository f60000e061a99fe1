-- +goose Up

-- Whether a workspace knows of mailboxes absent for months is asked often; they
-- stand in the order of their times.
CREATE INDEX absence_at ON absence USING brin (at) WITH (autosummarize = on);

-- Evidence is written once for each address and read seldom: as it is written,
-- not taken apart.
ALTER TABLE result ALTER evidence TYPE json;

-- +goose Down
ALTER TABLE result ALTER evidence TYPE jsonb;
DROP INDEX absence_at;
