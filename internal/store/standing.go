package store

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// Standing is what stands of a run: the last result of each address. It does not
// change; what is concluded later stands in a later one.
type Standing struct {
	// By address, from 1: the verdict, 0 for none yet, and the place of the batch.
	verdicts, batches []int32
	read              []readBatch
}

type readBatch struct {
	id int64
	at time.Time
}

// Verdict is that of an address, 0 where it has none yet.
func (st *Standing) Verdict(address int32) int32 {
	if address < 0 || int(address) >= len(st.verdicts) {
		return 0
	}
	return st.verdicts[address]
}

// of gives the batch in which an address stands, which must have a result.
func (st *Standing) of(address int32) readBatch { return st.read[st.batches[address]] }

// Each calls do for each address after one that has a result, in the order of the
// list, until it is false.
func (st *Standing) Each(after int32, do func(address, verdict int32) bool) {
	for a := max(int(after)+1, 1); a < len(st.verdicts); a++ {
		if v := st.verdicts[a]; v != 0 && !do(int32(a), v) {
			return
		}
	}
}

// with is the standing with further batches, in their order.
func (st *Standing) with(rows pgx.Rows) (*Standing, error) {
	next := &Standing{verdicts: slices.Clone(st.verdicts), batches: slices.Clone(st.batches), read: slices.Clone(st.read)}
	err := eachBatch(rows, func(b *batch) error {
		place := int32(len(next.read))
		next.read = append(next.read, readBatch{b.id, b.at})
		if more := int(slices.Max(b.addresses)) + 1 - len(next.verdicts); more > 0 {
			next.verdicts = append(next.verdicts, make([]int32, more)...)
			next.batches = append(next.batches, make([]int32, more)...)
		}
		for i, a := range b.addresses {
			next.verdicts[a], next.batches[a] = b.verdicts[i], place
		}
		return nil
	})
	return next, err
}

func (st *Standing) bytes() int { return 8 * len(st.verdicts) }

// ids are those of the batches that were read, never nil.
func (st *Standing) ids() []int64 {
	out := make([]int64, len(st.read))
	for i, b := range st.read {
		out[i] = b.id
	}
	return out
}

// last is the highest of them, 0 for none.
func (st *Standing) last() (id int64) {
	for _, b := range st.read {
		id = max(id, b.id)
	}
	return id
}

// Standing gives what stands of a run. Where it is known, only what came since is
// read.
func (s *Store) Standing(ctx context.Context, run int64) (*Standing, error) {
	known := s.standings.of(run)
	var batches int
	var last int64
	err := s.db.QueryRow(ctx, "SELECT count(*), coalesce(max(id), 0) FROM batch WHERE run_id = $1", run).Scan(&batches, &last)
	if err != nil || batches == len(known.read) && last == known.last() {
		return known, err
	}
	rows, err := s.db.Query(ctx, "SELECT id, at, addresses, verdicts FROM batch WHERE run_id = $1 AND id <> ALL($2) ORDER BY id", run, known.ids())
	if err != nil {
		return nil, err
	}
	now, err := known.with(rows)
	if err == nil && s.db == querier(s.pool) { // a transaction may still be taken back
		s.standings.keep(run, now)
	}
	return now, err
}

// standings are those of the runs that were looked at last.
type standings struct {
	mu   sync.Mutex
	runs []keptStanding // the last one used first
}

type keptStanding struct {
	run int64
	*Standing
}

// standingsBytes bounds the memory of standings that are not in use.
const standingsBytes = 48 << 20

func (k *standings) of(run int64) *Standing {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i, one := range k.runs {
		if one.run == run {
			copy(k.runs[1:], k.runs[:i])
			k.runs[0] = one
			return one.Standing
		}
	}
	return &Standing{}
}

func (k *standings) keep(run int64, st *Standing) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.runs = slices.DeleteFunc(k.runs, func(one keptStanding) bool { return one.run == run })
	k.runs = slices.Insert(k.runs, 0, keptStanding{run, st})
	sum := 0
	for i, one := range k.runs {
		if sum += one.bytes(); i > 0 && sum > standingsBytes {
			k.runs = slices.Clone(k.runs[:i])
			return
		}
	}
}
