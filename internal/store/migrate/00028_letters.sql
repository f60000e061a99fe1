-- +goose Up

-- The submission server by which the installation sends letters: one, or none.
CREATE TABLE letter_server (
    one      boolean PRIMARY KEY DEFAULT true CHECK (one),
    host     text NOT NULL,
    port     int  NOT NULL,
    security text NOT NULL,              -- tls, starttls or none
    username text NOT NULL DEFAULT '',
    sealed   bytea,                      -- the password
    sender   text NOT NULL,
    base_url text NOT NULL
);

-- +goose Down
DROP TABLE letter_server;
