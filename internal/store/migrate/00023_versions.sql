-- +goose Up

-- Packed values begin with the version of their form (internal/store/pack). What is there
-- is of version 1.
UPDATE row_block SET cells = '\x01'::bytea || cells;
UPDATE batch SET evidence = '\x01'::bytea || evidence WHERE evidence IS NOT NULL;
UPDATE parcel SET asked = '\x01'::bytea || asked WHERE asked IS NOT NULL;

-- +goose Down
UPDATE parcel SET asked = substr(asked, 2) WHERE asked IS NOT NULL;
UPDATE batch SET evidence = substr(evidence, 2) WHERE evidence IS NOT NULL;
UPDATE row_block SET cells = substr(cells, 2);
