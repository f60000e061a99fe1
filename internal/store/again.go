package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// ErrNotFinished tells that a run must end before something can be done with it.
var ErrNotFinished = errors.New("the run is not finished")

// AskAgain opens a finished run again for the addresses with some verdicts, and only for
// some of them unless only is nil. It makes parcels of at most size of them under a lane
// key, those of a domain together as far as may be; what they answered before goes along.
// It returns how many they are.
func (s *Store) AskAgain(ctx context.Context, run Run, verdicts, only []int32, laneKey string, size int) (addresses int64, err error) {
	tag, err := s.db.Exec(ctx, "UPDATE run SET state = 'running', finished_at = NULL WHERE id = $1 AND state = 'finished'", run.ID)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFinished
	}
	if err != nil {
		return 0, err
	}
	ok, err := s.matching(ctx, run, ResultFilter{Verdicts: append([]int32{}, verdicts...)})
	if err != nil {
		return 0, err
	}
	if only != nil {
		ok.of = &marks{}
		for _, a := range only {
			ok.of.mark(a)
		}
	}
	chosen, err := ok.all(ctx)
	if err != nil {
		return 0, err
	}
	return s.addAllAgain(ctx, run, ok.Latest, chosen, laneKey, size)
}

// StandingAgain counts the addresses that a run asks again and has not asked yet, by the verdict that stands.
func (s *Store) StandingAgain(ctx context.Context, run int64) (map[int32]int64, error) {
	rows, err := s.db.Query(ctx, "SELECT v, count(*) FROM parcel, unnest(was) v WHERE run_id = $1 AND again AND state = 'open' GROUP BY v", run)
	if err != nil {
		return nil, err
	}
	out := map[int32]int64{}
	var verdict int32
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&verdict, &n}, func() error {
		out[verdict] = n
		return nil
	})
	return out, err
}

// DoubtedDomains returns the domains of a run that is done which were found, while it
// went on, to answer by chance; none where these were asked again already.
func (s *Store) DoubtedDomains(ctx context.Context, run int64) ([]string, error) {
	return column[string](ctx, s.db, `SELECT DISTINCT d.domain FROM run JOIN run_domain d ON d.run_id = run.id JOIN acceptance a USING (domain)
		WHERE run.id = $1 AND plan->'doubted' IS NULL AND a.facts->>'accepts' = 'mixed' AND a.at >= run.begin_at`, run)
}

// AskDoubted puts the addresses of some domains with some verdicts into parcels again, as
// AskAgain does, before a run that is done is finished. It does so once a run.
func (s *Store) AskDoubted(ctx context.Context, run Run, domains []string, verdicts []int32, laneKey string, size int) (addresses int64, err error) {
	tag, err := s.db.Exec(ctx, "UPDATE run SET plan = jsonb_set(plan, '{doubted}', 'true') WHERE id = $1 AND plan->'doubted' IS NULL AND "+planned+" AND NOT "+left, run.ID)
	if err != nil || tag.RowsAffected() == 0 {
		return 0, err
	}
	ok, err := s.matching(ctx, run, ResultFilter{Verdicts: append([]int32{}, verdicts...)})
	if err == nil {
		err = s.keepDomains(ctx, run, &ok, domains)
	}
	if err != nil {
		return 0, err
	}
	chosen, err := ok.all(ctx)
	if err != nil {
		return 0, err
	}
	return s.addAllAgain(ctx, run, ok.Latest, chosen, laneKey, size)
}

// addAllAgain makes parcels of addresses that have a result.
func (s *Store) addAllAgain(ctx context.Context, run Run, st *Latest, chosen []int32, laneKey string, size int) (addresses int64, err error) {
	p := Parcel{RunID: run.ID, LaneKey: laneKey, Round: 1, NotBefore: time.Now(), Again: true, Turn: run.FirstTurn()}
	for len(chosen) > 0 {
		n := min(partSize, len(chosen)) // so many are held in memory
		rows, err := s.AddressesAt(ctx, run.ListID, chosen[:n])
		if err != nil {
			return 0, err
		}
		chosen, addresses = chosen[n:], addresses+int64(len(rows))
		for ; len(rows) > 0; p.Turn++ {
			n := min(size, len(rows))
			if err := s.addAgain(ctx, st, p, rows[:n]); err != nil {
				return 0, err
			}
			rows = rows[n:]
		}
	}
	return addresses, nil
}

// addAgain adds a parcel of addresses that have a result.
func (s *Store) addAgain(ctx context.Context, st *Latest, p Parcel, rows []AddressRow) error {
	ordinals := make([]int32, len(rows))
	for i, r := range rows {
		ordinals[i] = r.Ordinal
	}
	was, err := st.Of(ctx, ordinals)
	if err != nil {
		return err
	}
	asked, err := s.Asked(ctx, p.RunID, st, ordinals)
	if err != nil {
		return err
	}
	for _, r := range rows {
		p.Questions = append(p.Questions, Asking{AddressRow: r, Was: was[r.Ordinal].Verdict, Asked: asked[r.Ordinal]})
	}
	return s.AddParcels(ctx, []Parcel{p})
}
