-- +goose Up

-- What each workspace may ask of the service: in a minute, and at a time.
ALTER TABLE installation
    ADD COLUMN requests_minute int NOT NULL DEFAULT 6000 CHECK (requests_minute > 0),
    ADD COLUMN checks_minute   int NOT NULL DEFAULT 600 CHECK (checks_minute > 0),
    ADD COLUMN imports         int NOT NULL DEFAULT 4 CHECK (imports > 0),
    ADD COLUMN exports         int NOT NULL DEFAULT 6 CHECK (exports > 0),
    ADD COLUMN streams         int NOT NULL DEFAULT 200 CHECK (streams > 0);

-- +goose Down
ALTER TABLE installation DROP COLUMN requests_minute, DROP COLUMN checks_minute, DROP COLUMN imports, DROP COLUMN exports, DROP COLUMN streams;
