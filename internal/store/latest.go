package store

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// Latest holds the latest results of a run: the last one of each address. It does not
// change; what is concluded later stands in a later one.
type Latest struct {
	// By address, from 1: the verdict, 0 for none yet, and the place of the batch.
	verdicts, batches []int32
	read              []readBatch
	erasures          int32 // of the run, when it was read
}

type readBatch struct {
	id int64
	at time.Time
}

// Verdict is that of an address, 0 where it has none yet.
func (st *Latest) Verdict(address int32) int32 {
	if address < 0 || int(address) >= len(st.verdicts) {
		return 0
	}
	return st.verdicts[address]
}

// of returns the batch in which an address stands, which must have a result.
func (st *Latest) of(address int32) readBatch { return st.read[st.batches[address]] }

// Each calls do for each address after one that has a result, in the order of the
// list, until it is false.
func (st *Latest) Each(after int32, do func(address, verdict int32) bool) {
	for a := max(int(after)+1, 1); a < len(st.verdicts); a++ {
		if v := st.verdicts[a]; v != 0 && !do(int32(a), v) {
			return
		}
	}
}

// with returns the latest results with further batches, in their order.
func (st *Latest) with(rows pgx.Rows) (*Latest, error) {
	next := &Latest{verdicts: slices.Clone(st.verdicts), batches: slices.Clone(st.batches), read: slices.Clone(st.read), erasures: st.erasures}
	err := eachBatch(rows, func(b *batch) error {
		place := int32(len(next.read))
		next.read = append(next.read, readBatch{b.id, b.at})
		if more := int(slices.Max(b.addresses)) + 1 - len(next.verdicts); more > 0 {
			next.verdicts = append(next.verdicts, make([]int32, more)...)
			next.batches = append(next.batches, make([]int32, more)...)
		}
		for i, a := range b.addresses {
			if next.verdicts[a] = b.verdicts[i]; !b.restated {
				next.batches[a] = place
			}
		}
		return nil
	})
	return next, err
}

func (st *Latest) bytes() int { return 8 * len(st.verdicts) }

// ids are those of the batches that were read, never nil.
func (st *Latest) ids() []int64 {
	out := make([]int64, len(st.read))
	for i, b := range st.read {
		out[i] = b.id
	}
	return out
}

// last is the highest of them, 0 for none.
func (st *Latest) last() (id int64) {
	for _, b := range st.read {
		id = max(id, b.id)
	}
	return id
}

// Latest returns the latest results of a run. Where it is known, only what came since is
// read.
func (s *Store) Latest(ctx context.Context, run int64) (*Latest, error) {
	found, err := s.latestOfRuns(ctx, []int64{run})
	return found[run], err
}

// latestOfRuns returns the latest results of runs, by the run: one query tells of which there
// is something new, and one for each of these reads it.
func (s *Store) latestOfRuns(ctx context.Context, runs []int64) (map[int64]*Latest, error) {
	type record struct {
		Run      int64
		Batches  int
		Last     int64
		Erasures int32
	}
	there, err := many[record](ctx, s.db, `SELECT asked.run, count(batch.id) AS batches, coalesce(max(batch.id), 0) AS last,
			coalesce((SELECT erasures FROM run WHERE run.id = asked.run), 0) AS erasures
		FROM unnest($1::bigint[]) AS asked (run) LEFT JOIN batch ON batch.run_id = asked.run GROUP BY asked.run`, runs)
	if err != nil {
		return nil, err
	}
	found := make(map[int64]*Latest, len(runs))
	for _, t := range there {
		known := s.latestCache.of(t.Run)
		if known.erasures != t.Erasures { // what is known may be gone
			known = &Latest{erasures: t.Erasures}
		}
		if t.Batches != len(known.read) || t.Last != known.last() {
			if known, err = s.readLatest(ctx, t.Run, known); err != nil {
				return nil, err
			}
		}
		found[t.Run] = known
	}
	return found, nil
}

// readLatest reads what came since a run's results were known.
func (s *Store) readLatest(ctx context.Context, run int64, known *Latest) (*Latest, error) {
	rows, err := s.db.Query(ctx, batchColumns+" FROM batch WHERE run_id = $1 AND id <> ALL($2) ORDER BY id", run, known.ids())
	if err != nil {
		return nil, err
	}
	now, err := known.with(rows)
	if err == nil && s.db == querier(s.pool) { // a transaction may still be taken back
		s.latestCache.keep(run, now)
	}
	return now, err
}

// latestCache are those of the runs that were looked at last.
type latestCache struct {
	mu   sync.Mutex
	runs []keptLatest // the last one used first
}

type keptLatest struct {
	run int64
	*Latest
}

// latestBytes bounds the memory of latestCache that are not in use.
const latestBytes = 48 << 20

func (k *latestCache) of(run int64) *Latest {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i, one := range k.runs {
		if one.run == run {
			copy(k.runs[1:], k.runs[:i])
			k.runs[0] = one
			return one.Latest
		}
	}
	return &Latest{}
}

func (k *latestCache) keep(run int64, st *Latest) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.runs = slices.DeleteFunc(k.runs, func(one keptLatest) bool { return one.run == run })
	k.runs = slices.Insert(k.runs, 0, keptLatest{run, st})
	sum := 0
	for i, one := range k.runs {
		if sum += one.bytes(); i > 0 && sum > latestBytes {
			k.runs = slices.Clone(k.runs[:i])
			return
		}
	}
}
