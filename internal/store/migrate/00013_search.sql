-- +goose Up

-- The address cells of a list in blocks, in lower case, one a line: a search
-- reads them through in a fraction of the time that it takes over the rows. They
-- are made after the list was brought in.
CREATE TABLE list_text (
    list_id  bigint NOT NULL,
    last     int NOT NULL,       -- the last ordinal of the block
    ordinals int[] NOT NULL,     -- of the lines
    texts    text NOT NULL,
    PRIMARY KEY (list_id, last)
);
ALTER TABLE list_text ALTER texts SET STORAGE EXTERNAL;

-- +goose Down
DROP TABLE list_text;
