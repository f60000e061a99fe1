-- +goose Up

-- When a worker looked at the clock last, and since when the looks have followed each other
-- closely: where it jumps, what was set by it is set anew.
CREATE TABLE clock (
    at     timestamptz NOT NULL DEFAULT now(),
    steady timestamptz NOT NULL DEFAULT now()
);
INSERT INTO clock DEFAULT VALUES;

-- +goose Down
DROP TABLE clock;
