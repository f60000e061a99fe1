-- +goose Up

-- How many rows one list or one run has is nothing to be learnt from others. With
-- what it knows of those before, the planner takes the newest, which it has not
-- looked at yet, for one of a single row, and goes through all its rows for each of
-- them. Knowing nothing, it expects a two hundredth of the table, and uses the keys.
ALTER TABLE list_row ALTER list_id SET STATISTICS 0;
ALTER TABLE list_domain ALTER list_id SET STATISTICS 0;
ALTER TABLE list_text ALTER list_id SET STATISTICS 0;
ALTER TABLE result ALTER run_id SET STATISTICS 0;
ALTER TABLE run_domain ALTER run_id SET STATISTICS 0;
ALTER TABLE by_hand ALTER list_id SET STATISTICS 0;

-- +goose Down
ALTER TABLE by_hand ALTER list_id SET STATISTICS -1;
ALTER TABLE run_domain ALTER run_id SET STATISTICS -1;
ALTER TABLE result ALTER run_id SET STATISTICS -1;
ALTER TABLE list_text ALTER list_id SET STATISTICS -1;
ALTER TABLE list_domain ALTER list_id SET STATISTICS -1;
ALTER TABLE list_row ALTER list_id SET STATISTICS -1;
