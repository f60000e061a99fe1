-- +goose Up

-- When a run ends it is looked up which of its domains were found to answer by chance.
CREATE INDEX acceptance_mixed ON acceptance (domain) WHERE facts->>'accepts' = 'mixed';

-- +goose Down
DROP INDEX acceptance_mixed;
