package store

import (
	"cmp"
	"context"
	"slices"
)

// Place is a domain or an operator with its addresses in a run.
type Place struct {
	Name        string
	Addresses   int64
	Deliverable int64 // those with one of the verdicts asked for
}

// DomainPlaces returns the domains of a run's concluded addresses, the largest first.
func (s *Store) DomainPlaces(ctx context.Context, run Run, deliverable []int32, limit int) ([]Place, error) {
	return s.places(ctx, run, deliverable, limit, func(domain string) string { return domain })
}

// OperatorPlaces returns the operators of a run's concluded addresses, the largest
// first.
func (s *Store) OperatorPlaces(ctx context.Context, run Run, deliverable []int32, limit int) ([]Place, error) {
	of, err := s.domainsOf(ctx, run.ID, nil)
	if err != nil {
		return nil, err
	}
	return s.places(ctx, run, deliverable, limit, func(domain string) string { return of[domain] })
}

func (s *Store) places(ctx context.Context, run Run, deliverable []int32, limit int, under func(domain string) string) (out []Place, err error) {
	counts, err := s.verdictsBy(ctx, run, nil, under)
	for name, by := range counts {
		p := Place{Name: name}
		for verdict, n := range by {
			p.Addresses += n
			if slices.Contains(deliverable, verdict) {
				p.Deliverable += n
			}
		}
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Place) int {
		return cmp.Or(cmp.Compare(b.Addresses, a.Addresses), cmp.Compare(a.Name, b.Name))
	})
	return out[:min(len(out), limit)], err
}

// Sessions counts the conversations with mail hosts in a run.
func (s *Store) Sessions(ctx context.Context, run int64) (n int64, err error) {
	err = s.db.QueryRow(ctx, `SELECT coalesce(sum(json_array_length(record->'conversations')), 0) FROM parcel
		WHERE run_id = $1 AND json_typeof(record->'conversations') = 'array'`, run).Scan(&n)
	return n, err
}
