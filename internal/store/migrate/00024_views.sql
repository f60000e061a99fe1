-- +goose Up

-- For operators who look inside. The service reads none of these, so a later release may
-- change them; bound to one list or run they are as quick as reading it once.

-- The well-formed addresses of the lists; the ordinal is that of the first row with it.
CREATE VIEW address_now AS
SELECT p.list_id, a.ordinal, split_part(a.line, E'\t', 1) || '@' || p.domain AS address, p.domain
FROM list_part p, unnest(p.ordinals, string_to_array(p.mailboxes, E'\n')) a(ordinal, line);

-- The latest result of each address of each run, without a decision: that depends on the
-- policy and on overrides. The address is null for what is none.
CREATE VIEW result_now AS
SELECT u.workspace_id, u.list_id, b.run_id, b.ordinal, a.address, a.domain, v.finding, v.cause, v.traits, v.odds, b.at, b.batch
FROM (SELECT DISTINCT ON (run_id, ordinal) run_id, ordinal, verdict, at, id AS batch
        FROM batch, unnest(addresses, verdicts) r(ordinal, verdict) ORDER BY run_id, ordinal, id DESC) b
    JOIN run u ON u.id = b.run_id
    JOIN verdict v ON v.id = b.verdict
    LEFT JOIN address_now a ON a.list_id = u.list_id AND a.ordinal = b.ordinal;

-- The parcels that are not recorded yet, and why they wait.
CREATE VIEW parcel_now AS
SELECT u.workspace_id, u.list_id, p.run_id, p.id, p.lane_key, p.state, p.round, p.addresses, p.not_before, p.lane,
    CASE WHEN u.state <> 'running' THEN 'the run is ' || u.state
        WHEN p.state = 'claimed' THEN 'asked about now'
        WHEN p.not_before > now() THEN 'postponed'
        ELSE 'ready' END AS waits
FROM parcel p JOIN run u ON u.id = p.run_id WHERE p.state IN ('open', 'paused', 'claimed');

-- +goose Down
DROP VIEW parcel_now, result_now, address_now;
