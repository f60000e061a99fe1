-- +goose Up

-- The rows of a list in blocks of some hundred address cells that follow each other,
-- as internal/store/pack/block.go packs them.
CREATE TABLE row_block (
    list_id   bigint NOT NULL,
    first     int NOT NULL,      -- ordinal of the first cell
    last      int NOT NULL,
    cells     bytea NOT NULL,
    records   bytea NOT NULL,    -- as they were brought in, with the blank lines after them
    texts     text NOT NULL,     -- the cells that stand first with their address, in lower case, a line each
    malformed int NOT NULL,      -- how many of these are no address
    PRIMARY KEY (list_id, last)
);
-- What is searched is not to be unpacked each time.
ALTER TABLE row_block ALTER texts SET STORAGE EXTERNAL;
-- As for the other tables of lists: nothing is to be learnt from their numbers, and
-- nothing of them dies by itself.
ALTER TABLE row_block ALTER list_id SET STATISTICS 0;
ALTER TABLE row_block SET (autovacuum_vacuum_insert_threshold = -1, autovacuum_analyze_threshold = 2000000000);

-- +goose Down
DROP TABLE row_block;
