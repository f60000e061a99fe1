-- +goose Up

-- What each exchanger of a domain does with made-up mailboxes, by each of our routes.
CREATE TABLE acceptance (
    domain    text NOT NULL,
    exchanger text NOT NULL,
    route_id  bigint NOT NULL,
    facts     jsonb NOT NULL,
    at        timestamptz NOT NULL,                -- when it was asked last
    since     timestamptz NOT NULL DEFAULT now(),  -- when it was asked first
    PRIMARY KEY (domain, exchanger, route_id)
);
INSERT INTO acceptance (domain, exchanger, route_id, facts, at, since)
    SELECT domain, manner->>'exchanger', 0,
        jsonb_build_object('domain', domain, 'exchanger', manner->>'exchanger', 'accepts', CASE manner->>'accepts' WHEN 'some' THEN 'mixed' ELSE manner->>'accepts' END,
            'at', manner->'at', 'madeUp', coalesce(manner->'madeUp', '[]')),
        (manner->>'at')::timestamptz, (manner->>'at')::timestamptz
    FROM domain_fact WHERE manner->>'exchanger' <> '';
DROP TABLE domain_fact;

UPDATE parcel SET record = (record::jsonb - 'manners' || jsonb_build_object('acceptances', (
        SELECT coalesce(jsonb_agg((m.value - 'reused' - 'took') || jsonb_build_object('domain', m.key,
            'accepts', CASE m.value->>'accepts' WHEN 'some' THEN 'mixed' ELSE m.value->>'accepts' END)), '[]')
        FROM jsonb_each(record::jsonb->'manners') m)))::json
    WHERE record IS NOT NULL AND json_typeof(record->'manners') = 'object';

-- +goose Down
CREATE TABLE domain_fact (
    domain text PRIMARY KEY,
    manner jsonb NOT NULL
);
INSERT INTO domain_fact SELECT DISTINCT ON (domain) domain, facts FROM acceptance ORDER BY domain, at DESC;
UPDATE parcel SET record = (record::jsonb - 'acceptances' || jsonb_build_object('manners', (
        SELECT coalesce(jsonb_object_agg(a.value->>'domain', a.value), '{}') FROM jsonb_array_elements(record::jsonb->'acceptances') a)))::json
    WHERE record IS NOT NULL AND json_typeof(record->'acceptances') = 'array';
DROP TABLE acceptance;
