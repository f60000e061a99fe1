package decide

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"sync"
	"time"

	"varnet/core/policy"
	"varnet/internal/store"
)

// Tally counts the rows of a list by ruling.
type Tally struct {
	policy.Tally
	// ByRule counts them by the rule of the policy; the last is for what no rule fits.
	ByRule []int64
}

func (d *Decider) newTally() Tally { return Tally{policy.Tally{}, make([]int64, len(d.rulings))} }

func (t *Tally) add(d *Decider, rule Rule, rows int64) {
	t.Tally[d.Ruling(rule)] += rows
	if rule.OfPolicy() {
		t.ByRule[rule] += rows
	}
}

// tallyVerdicts counts the rows from the counts of verdicts. An address stands for its
// first row; every other row with it is a duplicate.
func (d *Decider) tallyVerdicts(counts map[int32]int64) Tally {
	t, open := d.newTally(), d.List.Addresses+d.List.Malformed
	for id, n := range counts {
		t.add(d, d.byVerdict[id], n)
		open -= n
	}
	t.add(d, NoAddress, d.List.Blank)
	t.add(d, Duplicate, d.List.Duplicates)
	t.add(d, Open, open)
	for _, o := range d.overrides {
		before := Open
		if o.Verdict != 0 {
			before = d.byVerdict[o.Verdict]
		}
		t.add(d, before, -1)
		t.add(d, overridden(o.Decision), 1)
	}
	return t
}

// tallyRows counts the rows one by one.
func (d *Decider) tallyRows(ctx context.Context) (Tally, error) {
	t := d.newTally()
	err := d.source.EachRow(ctx, d.Run, d.List, d.Needs(), func(r *store.OutRow) error {
		_, rule := d.Row(r)
		t.add(d, rule, 1)
		return nil
	})
	return t, err
}

// Memory remembers counts that were made row by row, as long as nothing new was found
// out. Its zero value is ready; it may be used by several at once.
type Memory struct {
	mu    sync.Mutex
	known map[int64]*counted // by run
}

type counted struct {
	mu    sync.Mutex
	state string // of the run and the policy
	tally Tally
	took  time.Duration
	at    time.Time
}

// mostRemembered bounds the memory; what is not remembered is counted anew.
const mostRemembered = 200

// Tally counts the rows of a run of which the counts of verdicts are known.
func (m *Memory) Tally(ctx context.Context, d *Decider, counts map[int32]int64) (Tally, error) {
	if d.ByVerdict() {
		return d.tallyVerdicts(counts), nil
	}
	return m.of(d, counts, func() (Tally, error) { return d.tallyRows(ctx) })
}

// of returns the remembered count, or counts. While a run goes on its count may be older
// by 20 times what counting takes, so that watching costs little.
func (m *Memory) of(d *Decider, counts map[int32]int64, count func() (Tally, error)) (Tally, error) {
	c := m.counted(d.Run.ID)
	c.mu.Lock()
	defer c.mu.Unlock()
	ended, state := d.Run.FinishedAt != nil, Fingerprint(d.Policy, d.overrides, d.terms.state, d.beside.state)
	if ended {
		state = Fingerprint(d.Policy, d.overrides, d.terms.state, d.beside.state, counts, d.Run.FinishedAt)
	}
	fresh := d.now.Sub(c.at) < 20*c.took
	if c.state == state && (fresh || ended && !d.Changes()) {
		return c.tally, nil
	}
	begun := time.Now()
	t, err := count()
	if err == nil {
		c.state, c.tally, c.at, c.took = state, t, begun, time.Since(begun)
	}
	return t, err
}

func (m *Memory) counted(run int64) *counted {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.known == nil || len(m.known) > mostRemembered {
		m.known = map[int64]*counted{}
	}
	c := m.known[run]
	if c == nil {
		c = &counted{}
		m.known[run] = c
	}
	return c
}

// Fingerprint returns a short name for values that can be written as JSON: the same for
// the same values.
func Fingerprint(values ...any) string {
	text, _ := json.Marshal(values)
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:12])
}
