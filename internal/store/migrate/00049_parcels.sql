-- +goose Up

-- The parcels of a run are found by one index, whatever becomes of them. One of those at work alone seemed as good as
-- empty by statistics of a quiet hour: when many runs began at once, all of it was gone through for each parcel.
DROP INDEX parcel_run;
CREATE INDEX parcel_run ON parcel (run_id, state);
-- Parcels stand in line since schema 46; nobody asks for them by their turn.
DROP INDEX parcel_open;
ANALYZE parcel;

-- +goose Down
CREATE INDEX parcel_open ON parcel (lane_key, turn, id) WHERE state = 'open';
DROP INDEX parcel_run;
CREATE INDEX parcel_run ON parcel (run_id) WHERE state IN ('open', 'paused', 'claimed');
