-- +goose Up

-- What each workspace may have on its way in, and how many lists.
ALTER TABLE installation
    ADD COLUMN uploads   int NOT NULL DEFAULT 20 CHECK (uploads > 0),
    ADD COLUMN upload_mb int NOT NULL DEFAULT 20000 CHECK (upload_mb > 0),
    ADD COLUMN lists     int NOT NULL DEFAULT 10000 CHECK (lists > 0);

-- An upload goes when nothing has come for a day.
ALTER TABLE upload ADD COLUMN used_at timestamptz NOT NULL DEFAULT now();

-- +goose Down
ALTER TABLE upload DROP COLUMN used_at;
ALTER TABLE installation DROP COLUMN uploads, DROP COLUMN upload_mb, DROP COLUMN lists;
