-- +goose Up

-- Which sequences of four bytes stand in the texts of a block, a bit each (internal/store/pack/grams.go), so that a search passes most
-- blocks by without their texts. Blocks of lists that are there already have none, and are searched as before. Beside the row's
-- head, for what it is there for.
ALTER TABLE row_block ADD grams bytea;
ALTER TABLE row_block ALTER grams SET STORAGE PLAIN;

-- +goose Down
ALTER TABLE row_block DROP grams;
