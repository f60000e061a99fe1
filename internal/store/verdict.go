package store

import (
	"context"
	"sync"

	"varnet/core/finding"
)

// verdictCache maps verdicts to their numbers. There are some hundreds of them
// at most, and they never change.
type verdictCache struct {
	mu    sync.RWMutex
	byKey map[verdictKey]int32
	// byID are all there were when they were read last. It is replaced, and never changed.
	byID map[int32]finding.Verdict
}

func newVerdictCache() *verdictCache { return &verdictCache{byKey: map[verdictKey]int32{}} }

func (c *verdictCache) all() map[int32]finding.Verdict {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.byID
}

// verdictKey is a verdict that can be looked up.
type verdictKey struct {
	finding finding.Finding
	cause   finding.Cause
	traits  string
	odds    float64
}

func keyOf(v finding.Verdict) verdictKey {
	k := verdictKey{finding: v.Finding, cause: v.Cause, odds: v.Odds}
	for _, t := range v.Traits {
		k.traits += string(t) + " "
	}
	return k
}

// KnowVerdicts sees to it that the results' verdicts have numbers. It comes
// before the transaction that records the results: a number may be remembered
// only once it is committed, and who holds one connection and waits for another
// may wait for ever.
func (s *Store) KnowVerdicts(ctx context.Context, results []Concluded) error {
	for _, r := range results {
		if _, err := s.verdictID(ctx, r.Verdict); err != nil {
			return err
		}
		if r.Was != 0 {
			if _, err := s.verdict(ctx, r.Was); err != nil {
				return err
			}
		}
	}
	return nil
}

// verdict returns the verdict with a number.
func (s *Store) verdict(ctx context.Context, id int32) (finding.Verdict, error) {
	if v, ok := s.verdicts.all()[id]; ok {
		return v, nil
	}
	all, err := s.Verdicts(ctx)
	return all[id], err
}

// verdictID returns the number of a verdict, which is recorded if it is new.
func (s *Store) verdictID(ctx context.Context, v finding.Verdict) (int32, error) {
	c, key := s.verdicts, keyOf(v)
	c.mu.RLock()
	id, ok := c.byKey[key]
	c.mu.RUnlock()
	if ok {
		return id, nil
	}
	traits := make([]string, len(v.Traits))
	for i, t := range v.Traits {
		traits[i] = string(t)
	}
	err := s.pool.QueryRow(ctx, `
		INSERT INTO verdict (finding, cause, traits, odds) VALUES ($1, $2, $3, $4)
		ON CONFLICT (finding, cause, traits, odds) DO UPDATE SET cause = EXCLUDED.cause RETURNING id`,
		string(v.Finding), string(v.Cause), traits, float32(v.Odds)).Scan(&id)
	if err == nil {
		c.mu.Lock()
		c.byKey[key] = id
		c.mu.Unlock()
	}
	return id, err
}

// Verdicts returns all verdicts by number; it is not to be changed. None is ever deleted: as long as there
// are as many as were read before, they are the same.
func (s *Store) Verdicts(ctx context.Context) (map[int32]finding.Verdict, error) {
	known := s.verdicts.all()
	var n int
	if err := s.db.QueryRow(ctx, "SELECT count(*) FROM verdict").Scan(&n); err != nil || n == len(known) {
		return known, err
	}
	type record struct {
		ID             int32
		Finding, Cause string
		Traits         []string
		Odds           float32
	}
	list, err := many[record](ctx, s.db, "SELECT id, finding, cause, traits, odds FROM verdict")
	if err != nil {
		return nil, err
	}
	out := make(map[int32]finding.Verdict, len(list))
	for _, r := range list {
		v := finding.Verdict{Finding: finding.Finding(r.Finding), Cause: finding.Cause(r.Cause), Odds: round2(r.Odds)}
		for _, t := range r.Traits {
			v.Traits = append(v.Traits, finding.Trait(t))
		}
		out[r.ID] = v
	}
	s.verdicts.keep(out)
	return out, nil
}

// keep keeps verdicts that were read, unless more are kept by now.
func (c *verdictCache) keep(all map[int32]finding.Verdict) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(all) > len(c.byID) {
		c.byID = all
	}
}

// round2 undoes what a four-byte number does to a step of 0.01.
func round2(f float32) float64 { return float64(int(f*100+0.5)) / 100 }
