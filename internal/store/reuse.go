package store

import (
	"context"
	"hash/maphash"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/probe"
	"varnet/internal/store/pack"
)

// Fresh is a verdict and since when its results are still taken for true.
type Fresh struct {
	Verdict int32
	Since   time.Time
}

// reusable are the freshest results of earlier runs for the addresses of a list: by
// address, the place of the run among the sources from 1, 0 for none; the address
// there, and when it was found, in seconds: of two in one second the later run's is taken.
type reusable struct {
	sources []int64
	from    numbers
	address []int32 // nil while it is the same everywhere
	at      []uint32
	count   int64
}

// roomFor makes room for the addresses of a list.
func (s *Store) roomFor(ctx context.Context, r *reusable, list int64) error {
	var cells int64
	err := s.db.QueryRow(ctx, "SELECT rows * cardinality(address_columns) FROM list WHERE id = $1", list).Scan(&cells)
	r.from.grow(int(cells) + 1)
	r.at = make([]uint32, cells+1)
	return err
}

// there is the address in the source's list.
func (r *reusable) there(address int32) int32 {
	if r.address == nil {
		return address
	}
	return r.address[address]
}

// take takes a result of the last source, if it is fresher than what there is.
func (r *reusable) take(to, address int32, at time.Time) {
	if more := int(to) + 1 - len(r.at); more > 0 {
		r.at = append(r.at, make([]uint32, more)...)
	}
	if r.from.of(to) == 0 {
		r.count++
	} else if r.at[to] > uint32(at.Unix()) {
		return
	}
	r.from.set(to, int32(len(r.sources)))
	r.at[to] = uint32(at.Unix())
	if address != to && r.address == nil {
		r.address = make([]int32, 0, len(r.at))
	}
	if r.address == nil {
		return
	}
	for n := len(r.address); n < len(r.at); n++ { // those before were the same
		r.address = append(r.address, int32(n))
	}
	r.address[to] = address
}

// reusable returns the freshest results of the workspace's earlier runs for the
// addresses of a run's list; onlySample leaves it at the samples of the same list.
// One that is not a run yet has number 0.
func (s *Store) reusable(ctx context.Context, run Run, fresh []Fresh, onlySample bool) (*reusable, error) {
	since, oldest := map[int32]time.Time{}, time.Now()
	for _, f := range fresh {
		if since[f.Verdict] = f.Since; f.Since.Before(oldest) {
			oldest = f.Since
		}
	}
	earlier, err := many[struct{ ID, ListID int64 }](ctx, s.db, `SELECT id, list_id FROM run
		WHERE workspace_id = $1 AND ($2::bigint = 0 OR id < $2) AND depth = 'mailbox' AND (NOT $4 OR sample IS NOT NULL AND list_id = $3)
			AND coalesce(finished_at, now()) > $5
		ORDER BY list_id, id`, run.WorkspaceID, run.ID, run.ListID, onlySample, oldest)
	if err != nil {
		return nil, err
	}
	best := &reusable{}
	if err := s.roomFor(ctx, best, run.ListID); err != nil {
		return nil, err
	}
	var same []int32 // the list's addresses by those of the earlier run's list
	for i, e := range earlier {
		if e.ListID != run.ListID && (i == 0 || earlier[i-1].ListID != e.ListID) {
			if same, err = s.sameAddresses(ctx, e.ListID, run.ListID); err != nil {
				return nil, err
			}
		}
		if e.ListID != run.ListID && len(same) == 0 {
			continue
		}
		best.sources = append(best.sources, e.ID)
		err := s.eachFresh(ctx, e.ID, since, func(address int32, at time.Time) {
			to := address
			if e.ListID != run.ListID {
				to = 0
				if int(address) < len(same) {
					to = same[address]
				}
			}
			if to != 0 {
				best.take(to, address, at)
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return best, nil
}

// eachFresh calls do for the addresses of a run whose results are fresh, with when they were found.
func (s *Store) eachFresh(ctx context.Context, run int64, since map[int32]time.Time, do func(address int32, at time.Time)) error {
	st, err := s.Latest(ctx, run)
	if err != nil {
		return err
	}
	recordedAt, err := s.recordedAt(ctx, run)
	if err != nil {
		return err
	}
	verdicts := make(map[int32]bool, len(since))
	for v := range since {
		verdicts[v] = true
	}
	return st.Each(ctx, 0, verdicts, func(one Standing) bool {
		if at := recordedAt[one.Batch]; at.After(since[one.Verdict]) {
			do(one.Address, at)
		}
		return true
	})
}

// sameAtOnce is how many addresses are held against those of another list at a time.
const sameAtOnce = 250_000

// sameAddresses returns the addresses of a list by those of an earlier one that are
// the same mailbox, 0 where there is none. A large list is gone through several
// times, for some of its mailboxes each: not all of them are held in memory.
func (s *Store) sameAddresses(ctx context.Context, earlier, list int64) (out []int32, err error) {
	var addresses int64
	if err := s.db.QueryRow(ctx, "SELECT addresses FROM list WHERE id = $1", list).Scan(&addresses); err != nil {
		return nil, err
	}
	type mailbox struct{ domain, local string }
	seed, turns := maphash.MakeSeed(), uint64(addresses/sameAtOnce+1)
	for turn := range turns {
		here := map[mailbox]int32{}
		each := func(list int64, domains []string, do func(mailbox, int32)) error {
			return s.eachLocal(ctx, list, domains, func(domain, local string, ordinal int32) {
				if local = strings.ToLower(local); maphash.String(seed, local)%turns == turn {
					do(mailbox{domain, local}, ordinal)
				}
			})
		}
		names := map[string]bool{}
		if err := each(list, nil, func(m mailbox, ordinal int32) { here[m], names[m.domain] = ordinal, true }); err != nil {
			return nil, err
		}
		err := each(earlier, few(names), func(m mailbox, ordinal int32) {
			if same := here[m]; same != 0 {
				if more := int(ordinal) + 1 - len(out); more > 0 {
					out = append(out, make([]int32, more)...)
				}
				out[ordinal] = same
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// fewDomains is up to how many domains are looked up one by one.
const fewDomains = 5000

// few returns the names of a few domains; nil, which means all, for many.
func few(domains map[string]bool) []string {
	if len(domains) > fewDomains {
		return nil
	}
	return sortedKeys(domains)
}

// Reusable counts the results that Reuse would take over.
func (s *Store) Reusable(ctx context.Context, run Run, fresh []Fresh, onlySample bool) (int64, error) {
	best, err := s.reusable(ctx, run, fresh, onlySample)
	if err != nil {
		return 0, err
	}
	return best.count, nil
}

// Reuse takes over the freshest results of the workspace's earlier runs for the
// addresses of a run's list, with their evidence and what DNS said of
// their domains; onlySample leaves it at the samples of the same list. It does so in
// steps, each in a transaction with the plan, and calls taken with how many a step took;
// broken off, it goes on with those that the run does not have yet.
func (s *Store) Reuse(ctx context.Context, run *Run, fresh []Fresh, onlySample bool, taken func(results int)) error {
	best, err := s.reusable(ctx, *run, fresh, onlySample)
	if err != nil {
		return err
	}
	best.at = nil // it is settled which are the freshest
	if best.count > 0 {
		if err := s.reuseFrom(ctx, run, best, taken); err != nil {
			return err
		}
	}
	run.Plan.ReuseDone = true
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if best.count > 0 {
			if err := s.reuseDomains(ctx, *run); err != nil {
				return err
			}
		}
		return s.SavePlan(ctx, run.ID, run.Plan)
	})
}

// reuseFrom takes over what a run does not have yet.
func (s *Store) reuseFrom(ctx context.Context, run *Run, best *reusable, taken func(results int)) error {
	has, err := s.wholeOf(ctx, run.ID)
	if err != nil {
		return err
	}
	for i, source := range best.sources {
		to := best.of(int32(i + 1))
		for there, here := range to {
			if has.Verdict(here) != 0 {
				to[there] = 0
			}
		}
		if err := s.takeOver(ctx, run, source, to, taken); err != nil {
			return err
		}
	}
	return nil
}

// reuseDomains takes over what DNS said of the domains of a run's list.
func (s *Store) reuseDomains(ctx context.Context, run Run) error {
	_, err := s.db.Exec(ctx, `INSERT INTO run_domain (run_id, domain, operator, facts)
		SELECT DISTINCT ON (d.domain) $1, d.domain, d.operator, d.facts
		FROM run_domain d JOIN run u ON u.id = d.run_id JOIN list_domain l ON l.list_id = $2 AND l.domain = d.domain
		WHERE u.workspace_id = $3 AND u.id < $1 AND u.depth = 'mailbox' ORDER BY d.domain, d.run_id DESC
		ON CONFLICT DO NOTHING`, run.ID, run.ListID, run.WorkspaceID)
	return err
}

// of returns the list's addresses by those of one source.
func (r *reusable) of(source int32) (to []int32) {
	highest := int32(-1)
	for address := range int32(len(r.from.low)) {
		if r.from.of(address) == source {
			highest = max(highest, r.there(address))
		}
	}
	to = make([]int32, highest+1)
	for address := range int32(len(r.from.low)) {
		if r.from.of(address) != source {
			continue
		}
		to[r.there(address)] = address
	}
	return to
}

// reuseAtOnce is of how many batches results are taken over in one transaction.
const reuseAtOnce = 100

// takeOver takes over some results of an earlier run, batch by batch: to gives
// the run's addresses by those of the earlier one, 0 for those left.
func (s *Store) takeOver(ctx context.Context, run *Run, source int64, to []int32, taken func(results int)) error {
	latest, err := s.Latest(ctx, source)
	if err != nil {
		return err
	}
	st, err := latest.WholeWithBatches(ctx)
	if err != nil {
		return err
	}
	wanted := map[int64]bool{}
	for address, other := range to {
		if other != 0 {
			id, _ := st.Batch(int32(address))
			wanted[id] = true
		}
	}
	for some := range slices.Chunk(slices.Sorted(maps.Keys(wanted)), reuseAtOnce) {
		results := 0
		plan := run.Plan
		err := s.InTx(ctx, func(s *Store, _ pgx.Tx) (err error) {
			if results, err = s.takeBatches(ctx, run.ID, source, some, st, to); err != nil {
				return err
			}
			plan.Reused += int64(results)
			return s.SavePlan(ctx, run.ID, plan)
		})
		if err != nil {
			return err
		}
		run.Plan = plan
		taken(results)
	}
	return nil
}

// takeBatches takes over some results of some batches of an earlier run, and returns how many.
func (s *Store) takeBatches(ctx context.Context, run, source int64, batches []int64, st *Whole, to []int32) (results int, err error) {
	rows, err := s.db.Query(ctx, batchColumns+", evidence FROM batch WHERE run_id = $1 AND id = ANY($2) ORDER BY id", source, batches)
	if err != nil {
		return 0, err
	}
	var all []batch
	var tallies []map[int32]int32
	err = eachBatch(rows, func(b *batch) error {
		tally := map[int32]int32{}
		one, err := b.taken(st, to, tally)
		if len(one.addresses) > 0 {
			all, tallies, results = append(all, one), append(tallies, tally), results+len(one.addresses)
		}
		return err
	})
	for i := 0; i < len(all) && err == nil; i++ {
		s.giveWay(ctx)
		err = s.addBatch(ctx, run, all[i], tallies[i], time.Unix(0, 0)) // not of the last minute
	}
	return results, err
}

// taken is what is taken over of a batch, which is counted.
func (b *batch) taken(st *Whole, to []int32, tally map[int32]int32) (taken batch, err error) {
	all, err := pack.ReadEvidence(b.evidence, len(b.addresses))
	if err != nil {
		return taken, err
	}
	taken.at = b.at
	var asked [][]probe.Asked
	for i, a := range b.addresses {
		if int(a) >= len(to) || to[a] == 0 {
			continue
		}
		if id, _ := st.Batch(a); id != b.id {
			continue
		}
		verdict := st.Verdict(a)
		taken.addresses, taken.verdicts, asked = append(taken.addresses, to[a]), append(taken.verdicts, verdict), append(asked, all[i])
		tally[verdict]++
	}
	taken.evidence = pack.Evidence(asked)
	return taken, nil
}

// Sampled reports whether a sample of a list was asked about.
func (s *Store) Sampled(ctx context.Context, list int64) (is bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM run WHERE list_id = $1 AND sample IS NOT NULL)", list).Scan(&is)
	return is, err
}
