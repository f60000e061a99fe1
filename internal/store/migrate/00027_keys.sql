-- +goose Up

-- What a key may do, for how long, from where; when and from where it was used last. Keys
-- that were made before may do everything.
ALTER TABLE key
    ADD COLUMN scopes         text[] NOT NULL DEFAULT '{read,import,run,export,check,manage}',
    ADD COLUMN expires_at     timestamptz,
    ADD COLUMN networks       cidr[] NOT NULL DEFAULT '{}',      -- none: from anywhere
    ADD COLUMN last_used_at   timestamptz,
    ADD COLUMN last_used_from inet,
    ADD COLUMN made_by        bigint REFERENCES key ON DELETE SET NULL;  -- the key by which it was made
CREATE INDEX key_made_by ON key (made_by) WHERE made_by IS NOT NULL;

-- +goose Down
ALTER TABLE key DROP COLUMN scopes, DROP COLUMN expires_at, DROP COLUMN networks, DROP COLUMN last_used_at, DROP COLUMN last_used_from, DROP COLUMN made_by;
