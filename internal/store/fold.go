package store

import (
	"context"
	"errors"
	"slices"

	"github.com/jackc/pgx/v5"

	"varnet/internal/store/pack"
)

// foldAtOnce is how many batches are folded in one transaction: some million results at most.
const foldAtOnce = 2000

// Fold puts results of a run that were recorded since it was folded last into the parts of its latest
// results: of so many batches that no transaction is long. more reports that some are left.
func (s *Store) Fold(ctx context.Context, run int64) (more bool, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		// Who deletes the run waits, and its parts go with the others; a second one who folds
		// waits, too.
		tag, err := s.db.Exec(ctx, `INSERT INTO latest_fold (run_id, folds) SELECT id, 1 FROM run WHERE id = $1 FOR KEY SHARE
			ON CONFLICT (run_id) DO UPDATE SET folds = latest_fold.folds + 1`, run)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		l := unread(run)
		rows, err := s.db.Query(ctx, batchColumns+" FROM batch WHERE run_id = $1 AND NOT folded ORDER BY id LIMIT $2", run, foldAtOnce)
		if err != nil {
			return err
		}
		if err := eachBatch(rows, func(b *batch) error { l.with(b); return nil }); err != nil {
			return err
		}
		more = len(l.batches) == foldAtOnce
		var touched []int32
		for part, recent := range l.recent {
			if len(recent) > 0 {
				touched = append(touched, int32(part))
			}
		}
		for some := range slices.Chunk(touched, mostPartsAtOnce) {
			if err := s.foldInto(ctx, l, some); err != nil {
				return err
			}
		}
		if _, err = s.db.Exec(ctx, "UPDATE batch SET folded = true WHERE run_id = $1 AND id = ANY($2)", run, l.ids()); err != nil {
			return err
		}
		return s.foldTally(ctx, run)
	})
	return more, err
}

// foldTally makes few records of a run's tally, so that whoever looks at the run adds a few of them up:
// for each verdict one of each second of the last minute, and one of all before. The run must be held.
func (s *Store) foldTally(ctx context.Context, run int64) error {
	_, err := s.db.Exec(ctx, `WITH were AS (DELETE FROM tally WHERE run_id = $1 RETURNING verdict, addresses, CASE WHEN at > now() - interval '1 minute' THEN date_trunc('second', at) ELSE to_timestamp(0) END AS at)
		INSERT INTO tally (run_id, verdict, addresses, at) SELECT $1, verdict, sum(addresses), at FROM were GROUP BY verdict, at, addresses > 0`, run)
	return err
}

// foldInto writes some parts anew.
func (s *Store) foldInto(ctx context.Context, l *latestState, parts []int32) error {
	s.giveWay(ctx)
	now := map[int]*pack.LatestPart{}
	if err := s.eachLatestPart(ctx, l.run, parts, true, func(part int, p *pack.LatestPart) { now[part] = p }); err != nil {
		return err
	}
	b := &pgx.Batch{}
	for _, part := range parts {
		p := l.over(int(part), now[int(part)])
		different, counts := p.Counts()
		verdicts, batches := p.Pack()
		b.Queue(`INSERT INTO latest_part (run_id, part, different, counts, verdicts, batches) VALUES ($1, $2, $3, $4, $5, $6)
			ON CONFLICT (run_id, part) DO UPDATE SET different = EXCLUDED.different, counts = EXCLUDED.counts, verdicts = EXCLUDED.verdicts, batches = EXCLUDED.batches`,
			l.run, part, different, counts, verdicts, batches)
	}
	return s.db.SendBatch(ctx, b).Close()
}

// unfold has the latest results of a run folded anew: something was taken out of its batches. The run
// must be held.
func (s *Store) unfold(ctx context.Context, run int64) error {
	tag, err := s.db.Exec(ctx, "UPDATE latest_fold SET folds = folds + 1 WHERE run_id = $1", run)
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	_, parts := s.db.Exec(ctx, "DELETE FROM latest_part WHERE run_id = $1", run)
	_, batches := s.db.Exec(ctx, "UPDATE batch SET folded = false WHERE run_id = $1 AND folded", run)
	return errors.Join(parts, batches)
}

// FoldFrom is from how many results that are not folded a run is folded while it goes on.
const FoldFrom = 8 * pack.PartSize

// Unfolded returns the runs that came to their end and of which many results are not folded: they are
// of a release before, or something of them was erased.
func (s *Store) Unfolded(ctx context.Context) ([]int64, error) {
	return column[int64](ctx, s.db, `SELECT u.id FROM run u JOIN list l ON l.id = u.list_id WHERE u.finished_at IS NOT NULL AND u.sample IS NULL AND l.addresses > $1
		AND EXISTS (SELECT FROM batch b WHERE b.run_id = u.id AND NOT b.folded) ORDER BY u.id`, FoldFrom)
}
