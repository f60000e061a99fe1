package store

import (
	"context"
	"maps"
	"sync"

	"varnet/core/finding"
)

// verdictCache maps verdicts to their numbers. There are some hundreds of them
// at most, and they never change.
type verdictCache struct {
	mu    sync.RWMutex
	byKey map[verdictKey]int32
	byID  map[int32]finding.Verdict
}

func newVerdictCache() *verdictCache {
	return &verdictCache{byKey: map[verdictKey]int32{}, byID: map[int32]finding.Verdict{}}
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
	c := s.verdicts
	c.mu.RLock()
	v, ok := c.byID[id]
	c.mu.RUnlock()
	if ok {
		return v, nil
	}
	all, err := s.Verdicts(ctx)
	if err != nil {
		return v, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	maps.Copy(c.byID, all)
	return all[id], nil
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

// Verdicts returns all verdicts by number.
func (s *Store) Verdicts(ctx context.Context) (map[int32]finding.Verdict, error) {
	type record struct {
		ID             int32
		Finding, Cause string
		Traits         []string
		Odds           float32
	}
	list, err := many[record](ctx, s.db, "SELECT id, finding, cause, traits, odds FROM verdict")
	out := make(map[int32]finding.Verdict, len(list))
	for _, r := range list {
		v := finding.Verdict{Finding: finding.Finding(r.Finding), Cause: finding.Cause(r.Cause), Odds: round2(r.Odds)}
		for _, t := range r.Traits {
			v.Traits = append(v.Traits, finding.Trait(t))
		}
		out[r.ID] = v
	}
	return out, err
}

// round2 undoes what a four-byte number does to a step of 0.01.
func round2(f float32) float64 { return float64(int(f*100+0.5)) / 100 }
