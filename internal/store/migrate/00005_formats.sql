-- +goose Up

-- What the file was, which sheet of it was read, and what it was packed in.
ALTER TABLE list ADD format text NOT NULL DEFAULT 'text', ADD sheet text NOT NULL DEFAULT '', ADD packed text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE list DROP format, DROP sheet, DROP packed;
