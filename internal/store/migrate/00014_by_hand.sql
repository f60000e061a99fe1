-- +goose Up

-- What somebody decided about an address of a list, whatever the policy says.
CREATE TABLE by_hand (
    list_id  bigint NOT NULL REFERENCES list ON DELETE CASCADE,
    address  int NOT NULL,
    decision text NOT NULL CHECK (decision IN ('keep', 'hold', 'drop')),
    at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (list_id, address)
);

-- A list that was put aside is not shown among the others.
ALTER TABLE list ADD archived_at timestamptz;

-- How many sessions a worker has begun by each route since it started, by its name.
ALTER TABLE worker ADD routes jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE worker DROP routes;
ALTER TABLE list DROP archived_at;
DROP TABLE by_hand;
