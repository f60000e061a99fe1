-- +goose Up

-- What was answered to requests that make something, by the key that the sender gave them,
-- so that one sent twice makes it once. Answers may hold keys and are sealed.
CREATE TABLE idempotency (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    key          text NOT NULL,
    request      bytea NOT NULL,         -- SHA-256 of what was asked for
    status       int,                    -- null: it is still being answered
    location     text NOT NULL DEFAULT '',
    answer       bytea,                  -- sealed
    at           timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (workspace_id, key)
);
CREATE INDEX idempotency_at ON idempotency (at);

-- +goose Down
DROP TABLE idempotency;
