package store

import (
	"context"
	"encoding/json"

	"github.com/jackc/pgx/v5"
)

// Places returns the ordinals of a list's addresses at some places, counted from
// 0 in the order of the domains, the largest first. The places must rise.
func (s *Store) Places(ctx context.Context, list int64, places []int64) (ordinals []int32, err error) {
	rows, err := s.db.Query(ctx, "SELECT domain, addresses FROM list_domain WHERE list_id = $1 ORDER BY addresses DESC, domain DESC", list)
	if err != nil {
		return nil, err
	}
	var domains []string
	var within []int32
	var name string
	var size int32
	before := int64(0)
	_, err = pgx.ForEachRow(rows, []any{&name, &size}, func() error {
		for len(places) > 0 && places[0] < before+int64(size) {
			domains, within = append(domains, name), append(within, int32(places[0]-before)+1)
			places = places[1:]
		}
		before += int64(size)
		return nil
	})
	if err != nil {
		return nil, err
	}
	wanted := map[string][]int32{}
	for i, d := range domains {
		wanted[d] = append(wanted[d], within[i])
	}
	err = s.eachOrdinal(ctx, list, sortedKeys(wanted), func(domain string, o int32) {
		places := wanted[domain]
		for i := range places {
			if places[i]--; places[i] == 0 {
				ordinals = append(ordinals, o)
			}
		}
	})
	return ordinals, err
}

// SaveEstimate records the quick estimate of a list; the last one stands.
func (s *Store) SaveEstimate(ctx context.Context, list int64, body any) error {
	_, err := s.db.Exec(ctx, `INSERT INTO estimate (list_id, body) VALUES ($1, $2)
		ON CONFLICT (list_id) DO UPDATE SET body = EXCLUDED.body, at = now()`, list, body)
	return err
}

// Estimates returns the quick estimates of the lists that have one, as they were saved.
func (s *Store) Estimates(ctx context.Context, lists ...int64) (map[int64]json.RawMessage, error) {
	type record struct {
		ListID int64
		Body   json.RawMessage
	}
	found := map[int64]json.RawMessage{}
	list, err := many[record](ctx, s.db, "SELECT list_id, body FROM estimate WHERE list_id = ANY($1)", lists)
	for _, r := range list {
		found[r.ListID] = r.Body
	}
	return found, err
}
