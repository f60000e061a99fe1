package store

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"varnet/internal/store/pack"
)

// Latest is the latest results of a run at a moment: the last one of each address. What was
// folded (see Fold) is read part by part, as it is needed; what was recorded since is held in
// memory. It does not change: what is concluded later stands in a later one.
type Latest struct {
	s *Store
	*latestState
}

// latestState is a Latest without the connections that its parts are read by.
type latestState struct {
	run      int64
	folds    int32 // -1: it was never read
	erasures int32 // of the run
	newest   int64 // the highest batch of all, 0 for none
	folded   []foldedPart
	recent   [][]recorded // by part, in the order of their batches
	batches  []readBatch  // those of recent
	size     int          // how many results recent holds

	mu    sync.Mutex
	whole *Whole // once somebody has asked for it, without batches
}

// foldedPart is what is known of a part before it is read: how many addresses have each verdict.
type foldedPart map[int32]int32

// recorded is a result that is not folded yet: the place of its address in its part, and that of
// its batch; -1 where it gives a result other odds alone.
type recorded struct {
	place   uint16
	verdict int32
	batch   int32
}

type readBatch struct {
	id int64
	at time.Time
}

// Standing is the latest result of an address: its verdict, and the batch with its evidence.
type Standing struct {
	Address, Verdict int32
	Batch            int64
}

func partOf(address int32) (part int, place uint16) {
	return int(address) >> pack.PartBits, uint16(address & (pack.PartSize - 1))
}

func (l *latestState) parts() int { return max(len(l.folded), len(l.recent)) }

// holds reports whether a part may have results with some verdicts, or (nil) any.
func (l *latestState) holds(part int, verdicts map[int32]bool) bool {
	if part < len(l.folded) {
		for v := range l.folded[part] {
			if verdicts == nil || verdicts[v] {
				return true
			}
		}
	}
	return part < len(l.recent) && slices.ContainsFunc(l.recent[part], func(r recorded) bool { return verdicts == nil || verdicts[r.verdict] })
}

// over puts what was recorded since over a part as it was folded, which may be shared. A part that
// was folded after it was asked for may hold some of that already, and later results.
func (l *latestState) over(part int, folded *pack.LatestPart) *pack.LatestPart {
	if part >= len(l.recent) || len(l.recent[part]) == 0 {
		return folded
	}
	now := pack.NewLatestPart()
	if folded != nil {
		copy(now.Verdicts, folded.Verdicts)
		copy(now.Batches, folded.Batches)
	}
	putOver(now, l.recent[part], l.batches)
	return now
}

func putOver(p *pack.LatestPart, recent []recorded, batches []readBatch) {
	for _, r := range recent {
		switch {
		case r.batch < 0:
			p.Verdicts[r.place] = r.verdict
		case batches[r.batch].id >= p.Batches[r.place]:
			p.Verdicts[r.place], p.Batches[r.place] = r.verdict, batches[r.batch].id
		}
	}
}

// mostPartsAtOnce is how many parts are read at once.
const mostPartsAtOnce = 16

// Each calls do for each address after one that has one of some verdicts, or (nil) any, in the
// order of the list, until it is false. Parts without such are passed over.
func (l *Latest) Each(ctx context.Context, after int32, verdicts map[int32]bool, do func(Standing) bool) error {
	return l.eachIn(ctx, after, verdicts, nil, do)
}

// eachIn is Each in those parts alone in which addresses are marked; nil: in all.
func (l *Latest) eachIn(ctx context.Context, after int32, verdicts map[int32]bool, in *marks, do func(Standing) bool) error {
	first, _ := partOf(max(after, 0) + 1)
	atOnce := 1 // for a page the first is often enough
	for n := first; n < l.parts(); {
		var some []int
		for ; n < l.parts() && len(some) < atOnce; n++ {
			if (in == nil || in.in(n) > 0) && l.holds(n, verdicts) {
				some = append(some, n)
			}
		}
		read, err := l.read(ctx, some)
		if err != nil {
			return err
		}
		for _, part := range some {
			for place, v := range read[part].Verdicts {
				address := int32(part)<<pack.PartBits | int32(place)
				if v == 0 || address <= after || verdicts != nil && !verdicts[v] {
					continue
				}
				if !do(Standing{address, v, read[part].Batches[place]}) {
					return nil
				}
			}
		}
		atOnce = min(4*atOnce, mostPartsAtOnce)
	}
	return nil
}

// Of returns the latest results of some addresses; those without are left out.
func (l *Latest) Of(ctx context.Context, addresses []int32) (map[int32]Standing, error) {
	out := make(map[int32]Standing, len(addresses))
	sorted := slices.Sorted(slices.Values(addresses))
	for len(sorted) > 0 {
		var parts []int
		n := 0
		for ; n < len(sorted); n++ {
			part, _ := partOf(sorted[n])
			if len(parts) == 0 || parts[len(parts)-1] != part {
				if len(parts) == mostPartsAtOnce {
					break
				}
				parts = append(parts, part)
			}
		}
		read, err := l.read(ctx, slices.DeleteFunc(parts, func(p int) bool { return p < 0 || !l.holds(p, nil) }))
		if err != nil {
			return nil, err
		}
		for _, a := range sorted[:n] {
			part, place := partOf(a)
			if p := read[part]; p != nil && p.Verdicts[place] != 0 {
				out[a] = Standing{a, p.Verdicts[place], p.Batches[place]}
			}
		}
		sorted = sorted[n:]
	}
	return out, nil
}

// Verdict returns the verdict of one address, 0: it has none yet.
func (l *Latest) Verdict(ctx context.Context, address int32) (int32, error) {
	found, err := l.Of(ctx, []int32{address})
	return found[address].Verdict, err
}

// Counts returns how many addresses have each verdict. Parts of which nothing was recorded since
// are not read.
func (l *Latest) Counts(ctx context.Context) (map[int32]int64, error) {
	out := map[int32]int64{}
	var changed []int
	for part := range l.parts() {
		if part < len(l.recent) && len(l.recent[part]) > 0 {
			changed = append(changed, part)
			continue
		}
		for v, n := range l.folded[part] {
			out[v] += int64(n)
		}
	}
	for some := range slices.Chunk(changed, mostPartsAtOnce) {
		read, err := l.read(ctx, some)
		if err != nil {
			return nil, err
		}
		for _, p := range read {
			for _, v := range p.Verdicts {
				if v != 0 {
					out[v]++
				}
			}
		}
	}
	return out, nil
}

// read returns some parts as they stand; those that nobody asked for lately are read from the
// database.
func (l *Latest) read(ctx context.Context, parts []int) (map[int]*pack.LatestPart, error) {
	out := make(map[int]*pack.LatestPart, len(parts))
	var missing []int32
	for _, n := range parts {
		if n >= len(l.folded) || len(l.folded[n]) == 0 {
			continue
		}
		if p := l.s.latestCache.part(l.latestState, n); p != nil {
			out[n] = p
			continue
		}
		missing = append(missing, int32(n))
	}
	if len(missing) > 0 {
		err := l.s.eachLatestPart(ctx, l.run, missing, true, func(part int, p *pack.LatestPart) {
			l.s.latestCache.keepPart(l.latestState, part, p)
			out[part] = p
		})
		if err != nil {
			return nil, err
		}
	}
	for _, n := range parts {
		if out[n] = l.over(n, out[n]); out[n] == nil {
			out[n] = pack.NewLatestPart() // its run was deleted a moment ago
		}
	}
	return out, nil
}

// eachLatestPart reads parts of the latest results of a run, or (nil) all, one by one; without their
// batches, where these are not wanted.
func (s *Store) eachLatestPart(ctx context.Context, run int64, parts []int32, batches bool, do func(part int, p *pack.LatestPart)) error {
	of := "NULL::bytea"
	if batches {
		of = "batches"
	}
	rows, err := s.db.Query(ctx, "SELECT part, verdicts, "+of+" FROM latest_part WHERE run_id = $1 AND ($2::int[] IS NULL OR part = ANY($2)) ORDER BY part", run, parts)
	if err != nil {
		return err
	}
	var part int32
	var verdicts, in pgtype.DriverBytes
	_, err = pgx.ForEachRow(rows, []any{&part, &verdicts, &in}, func() error {
		p, err := pack.ReadLatestPart(verdicts, in)
		if err == nil {
			do(int(part), p)
		}
		return err
	})
	return err
}

// ids are those of the batches that are held in memory, never nil.
func (l *latestState) ids() []int64 {
	out := make([]int64, len(l.batches))
	for i, b := range l.batches {
		out[i] = b.id
	}
	return out
}

// last is the highest of them, 0 for none.
func (l *latestState) last() (id int64) {
	for _, b := range l.batches {
		id = max(id, b.id)
	}
	return id
}

// with returns the latest results with a further batch; l is not to be used any more.
func (l *latestState) with(b *batch) {
	at := int32(-1)
	if l.batches = append(l.batches, readBatch{b.id, b.at}); !b.restated {
		at = int32(len(l.batches) - 1)
	}
	for i, a := range b.addresses {
		part, place := partOf(a)
		if more := part + 1 - len(l.recent); more > 0 {
			l.recent = append(l.recent, make([][]recorded, more)...)
		}
		l.recent[part] = append(l.recent[part], recorded{place, b.verdicts[i], at})
		if l.whole != nil {
			l.whole.set(a, b.verdicts[i])
		}
	}
	l.size += len(b.addresses)
}

// next is a copy to which batches are added.
func (l *latestState) next() *latestState {
	l.mu.Lock()
	defer l.mu.Unlock()
	next := &latestState{run: l.run, folds: l.folds, erasures: l.erasures, newest: l.newest, folded: l.folded, batches: slices.Clip(l.batches), size: l.size}
	next.recent = slices.Clone(l.recent)
	for i := range next.recent {
		next.recent[i] = slices.Clip(next.recent[i])
	}
	if l.whole != nil {
		next.whole = l.whole.clone()
	}
	return next
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
		Run             int64
		Batches         int
		Last            int64
		Folds, Erasures int32
	}
	there, err := many[record](ctx, s.db, `SELECT asked.run, count(batch.id) AS batches, coalesce(max(batch.id), 0) AS last,
			coalesce((SELECT folds FROM latest_fold f WHERE f.run_id = asked.run), 0) AS folds,
			coalesce((SELECT erasures FROM run WHERE run.id = asked.run), 0) AS erasures
		FROM unnest($1::bigint[]) AS asked (run) LEFT JOIN batch ON batch.run_id = asked.run AND NOT batch.folded GROUP BY asked.run`, runs)
	if err != nil {
		return nil, err
	}
	found := make(map[int64]*Latest, len(runs))
	for _, t := range there {
		known := s.latestCache.of(t.Run)
		if known.erasures != t.Erasures || known.folds != t.Folds || t.Batches != len(known.batches) || t.Last != known.last() {
			if known.erasures != t.Erasures {
				known = unread(t.Run)
			}
			if known, err = s.readLatest(ctx, known, t.Erasures); err != nil {
				return nil, err
			}
		}
		found[t.Run] = &Latest{s, known}
	}
	return found, nil
}

func unread(run int64) *latestState { return &latestState{run: run, folds: -1} }

// What readLatest reads, in one statement, so that all of it is of one moment: how often there was
// folding, the parts where that is another number than is known, and the batches that are not folded.
const (
	readFolds = iota
	readPart
	readRecent
)

const readLatestSQL = `WITH now AS (SELECT coalesce((SELECT folds FROM latest_fold WHERE run_id = $1), 0) AS folds)
	SELECT 0 AS kind, (SELECT max(id) FROM batch WHERE run_id = $1) AS id, now() AS at, ARRAY[folds] AS addresses, '{}'::int[] AS verdicts, false AS restated FROM now
	UNION ALL SELECT 1, part, now(), different, counts, false FROM latest_part, now WHERE run_id = $1 AND folds <> $2
	UNION ALL SELECT 2, id, at, addresses, verdicts, restated FROM batch, now WHERE run_id = $1 AND NOT folded AND (folds <> $2 OR id <> ALL($3))
	ORDER BY 1, 2`

// readLatest reads what came since a run's results were known.
func (s *Store) readLatest(ctx context.Context, known *latestState, erasures int32) (*latestState, error) {
	rows, err := s.db.Query(ctx, readLatestSQL, known.run, known.folds, known.ids())
	if err != nil {
		return nil, err
	}
	next := known.next()
	var kind int
	var id *int64
	var at time.Time
	var addresses, verdicts pgtype.UndecodedBytes
	var restated bool
	_, err = pgx.ForEachRow(rows, []any{&kind, &id, &at, &addresses, &verdicts, &restated}, func() error {
		a, err := ints(addresses)
		if err != nil {
			return err
		}
		v, err := ints(verdicts)
		if err != nil {
			return err
		}
		switch kind {
		case readFolds:
			if a[0] != next.folds {
				next = &latestState{run: known.run, folds: a[0]}
			}
			if next.erasures = erasures; id != nil {
				next.newest = *id
			}
		case readPart:
			next.head(int(*id), a, v)
		case readRecent:
			b := batch{id: *id, at: at, addresses: a, verdicts: v, restated: restated}
			if err := b.check(); err != nil {
				return err
			}
			next.with(&b)
		}
		return nil
	})
	if err == nil && s.db == querier(s.pool) { // a transaction may still be taken back
		s.latestCache.keep(next)
	}
	return next, err
}

// head adds what is known of a part that was folded.
func (l *latestState) head(part int, different, counts []int32) {
	if more := part + 1 - len(l.folded); more > 0 {
		l.folded = append(l.folded, make([]foldedPart, more)...)
	}
	of := make(foldedPart, len(different))
	for i, v := range different {
		of[v] = counts[i]
	}
	l.folded[part] = of
}

// Whole is the latest results of all addresses of a run, for those who look at them in another order
// than the list's: 2 bytes an address, and 2 more with their batches.
type Whole struct {
	verdicts, places numbers
	batches          []readBatch // by the places; none: without batches
}

// numbers are numbers from 0, in two bytes each as long as none needs more.
type numbers struct {
	low, high []uint16 // high is nil where all are 0
}

func (n *numbers) of(i int32) int32 {
	if i < 0 || int(i) >= len(n.low) {
		return 0
	}
	v := int32(n.low[i])
	if n.high != nil {
		v |= int32(n.high[i]) << 16
	}
	return v
}

// grow makes room for so many.
func (n *numbers) grow(to int) {
	if more := to - len(n.low); more > 0 {
		n.low = append(n.low, make([]uint16, more)...)
		if n.high != nil {
			n.high = append(n.high, make([]uint16, more)...)
		}
	}
}

func (n *numbers) set(i, v int32) {
	n.grow(int(i) + 1)
	if v>>16 != 0 && n.high == nil {
		n.high = make([]uint16, len(n.low))
	}
	if n.low[i] = uint16(v); n.high != nil {
		n.high[i] = uint16(v >> 16)
	}
}

func (n *numbers) bytes() int { return 2*len(n.low) + 2*len(n.high) }

// Verdict is that of an address, 0 where it has none yet.
func (w *Whole) Verdict(address int32) int32 { return w.verdicts.of(address) }

// Batch is the batch with the evidence of an address, and when it was recorded; the address must
// have a result, and w its batches.
func (w *Whole) Batch(address int32) (id int64, at time.Time) {
	b := w.batches[w.places.of(address)]
	return b.id, b.at
}

func (w *Whole) set(address, verdict int32) { w.verdicts.set(address, verdict) }

func (w *Whole) clone() *Whole {
	return &Whole{verdicts: numbers{slices.Clone(w.verdicts.low), slices.Clone(w.verdicts.high)}}
}

// Whole returns the verdicts of all addresses. They are remembered with the run's latest results.
func (l *Latest) Whole(ctx context.Context) (*Whole, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.whole != nil {
		return l.whole, nil
	}
	w := &Whole{}
	w.verdicts.grow(l.parts() << pack.PartBits)
	err := l.eachPart(ctx, false, func(part int, p *pack.LatestPart) {
		for place, v := range p.Verdicts {
			if v != 0 {
				w.set(int32(part)<<pack.PartBits|int32(place), v)
			}
		}
	})
	if err == nil {
		l.whole = w
	}
	return w, err
}

// WholeWithBatches returns the verdicts of all addresses and the batches in which they stand.
func (l *Latest) WholeWithBatches(ctx context.Context) (*Whole, error) {
	batches, err := l.s.batchTimes(ctx, l.run)
	if err != nil {
		return nil, err
	}
	w := &Whole{batches: batches}
	w.verdicts.grow(l.parts() << pack.PartBits)
	w.places.grow(l.parts() << pack.PartBits)
	placeOf := placesOf(batches)
	err = l.eachPart(ctx, true, func(part int, p *pack.LatestPart) {
		for place, v := range p.Verdicts {
			if v == 0 {
				continue
			}
			address := int32(part)<<pack.PartBits | int32(place)
			// A batch that is not there belongs to an address that was erased a moment ago.
			if at := placeOf(p.Batches[place]); at < len(batches) && batches[at].id == p.Batches[place] {
				w.set(address, v)
				w.places.set(address, int32(at))
			}
		}
	})
	return w, err
}

// placesOf returns what finds the place of a batch among those of a run, which are in order, or that of
// the next. Their numbers are nearly even, so that it is seldom more than some steps from where they begin
// that share their upper bits.
func placesOf(batches []readBatch) func(id int64) int {
	if len(batches) == 0 {
		return func(int64) int { return 0 }
	}
	first, shift := batches[0].id, 0
	for (batches[len(batches)-1].id-first)>>shift > int64(2*len(batches)) {
		shift++
	}
	begins := make([]int32, (batches[len(batches)-1].id-first)>>shift+2)
	at := 0
	for n := range begins {
		for at < len(batches) && (batches[at].id-first)>>shift < int64(n) {
			at++
		}
		begins[n] = int32(at)
	}
	return func(id int64) int {
		if id < first {
			return 0
		}
		n := min(int((id-first)>>shift), len(begins)-1)
		at := int(begins[n])
		for at < len(batches) && batches[at].id < id {
			at++
		}
		return at
	}
}

// batchTimes returns the batches of a run, in their order.
func (s *Store) batchTimes(ctx context.Context, run int64) ([]readBatch, error) {
	rows, err := s.db.Query(ctx, "SELECT id, at FROM batch WHERE run_id = $1 ORDER BY id", run)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (b readBatch, err error) {
		err = row.Scan(&b.id, &b.at)
		return b, err
	})
}

// recordedAt returns when the batches of a run were recorded.
func (s *Store) recordedAt(ctx context.Context, run int64) (map[int64]time.Time, error) {
	batches, err := s.batchTimes(ctx, run)
	out := make(map[int64]time.Time, len(batches))
	for _, b := range batches {
		out[b.id] = b.at
	}
	return out, err
}

// timesOf returns when some batches of a run were recorded.
func (s *Store) timesOf(ctx context.Context, run int64, ids []int64) (map[int64]time.Time, error) {
	rows, err := s.db.Query(ctx, "SELECT id, at FROM batch WHERE run_id = $1 AND id = ANY($2)", run, slices.Compact(slices.Sorted(slices.Values(ids))))
	if err != nil {
		return nil, err
	}
	out := map[int64]time.Time{}
	var id int64
	var at time.Time
	_, err = pgx.ForEachRow(rows, []any{&id, &at}, func() error { out[id] = at; return nil })
	return out, err
}

// eachPart calls do for all parts as they stand, one by one; without batches, where they are not wanted.
func (l *Latest) eachPart(ctx context.Context, batches bool, do func(part int, p *pack.LatestPart)) error {
	done := 0 // parts
	since := func(until int) {
		for ; done < until; done++ {
			if p := l.over(done, nil); p != nil {
				do(done, p)
			}
		}
	}
	err := l.s.eachLatestPart(ctx, l.run, nil, batches || len(l.batches) > 0, func(part int, p *pack.LatestPart) {
		since(part)
		do(part, l.over(part, p))
		done = part + 1
	})
	since(len(l.recent))
	return err
}
