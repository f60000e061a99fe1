-- +goose Up

-- Which sequences of four bytes the texts of a block contain, a bit each (internal/store/pack/grams.go): a search rules most blocks
-- out without reading their texts. Blocks of earlier lists have none and are searched as before. The bits lie in the row itself,
-- since fetching them from elsewhere would cost as much as fetching the texts.
ALTER TABLE row_block ADD grams bytea;
ALTER TABLE row_block ALTER grams SET STORAGE PLAIN;

-- +goose Down
ALTER TABLE row_block DROP grams;
