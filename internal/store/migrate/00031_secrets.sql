-- +goose Up

-- The fingerprint of an absent mailbox is keyed with the installation's secret: which one
-- tells the name of the secret (null: with none yet, as releases before made them; a job keys
-- them). So the secret can be changed, with the old one beside it for a while.
ALTER TABLE absence ADD COLUMN secret bytea;
CREATE INDEX absence_unkeyed ON absence (workspace_id) WHERE secret IS NULL;

-- What the passkeys of a person say whose they are. It stays when the secret changes; null: as
-- the present secret makes it.
ALTER TABLE person ADD COLUMN handle bytea;

-- +goose Down
ALTER TABLE person DROP COLUMN handle;
ALTER TABLE absence DROP COLUMN secret;
