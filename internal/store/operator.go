package store

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"varnet/core/pace"
)

// Operator is what is known of an operator.
type Operator struct {
	Name string
	// Own tells that it has lanes of its own; others share.
	Own bool
	// By is what it does with each of our routes.
	By map[int64]OperatorRoute
}

// OperatorRoute is what an operator does with one of our routes.
type OperatorRoute struct {
	Operator     string
	RouteID      int64
	Pace         pace.Pace
	AskedAt      *time.Time
	BlockedUntil *time.Time
	Words        string
}

const operatorRouteColumns = "operator, route_id, pace, asked_at, blocked_until, words"

// Blocked tells until when it is taken to refuse us by the route; zero: not.
func (o OperatorRoute) Blocked() time.Time {
	if o.BlockedUntil == nil {
		return time.Time{}
	}
	return *o.BlockedUntil
}

// Operators returns what is known of some operators.
func (s *Store) Operators(ctx context.Context, names []string) (map[string]Operator, error) {
	rows, err := s.db.Query(ctx, `SELECT o.name, o.own, r.route_id, coalesce(r.pace, '{}'), r.asked_at, r.blocked_until, coalesce(r.words, '')
		FROM operator o LEFT JOIN operator_route r ON r.operator = o.name WHERE o.name = ANY($1)`, names)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]Operator{}
	for rows.Next() {
		var o Operator
		var route *int64
		var r OperatorRoute
		if err := rows.Scan(&o.Name, &o.Own, &route, &r.Pace, &r.AskedAt, &r.BlockedUntil, &r.Words); err != nil {
			return nil, err
		}
		if _, seen := out[o.Name]; !seen {
			o.By = map[int64]OperatorRoute{}
			out[o.Name] = o
		}
		if route != nil {
			r.Operator, r.RouteID = o.Name, *route
			out[o.Name].By[*route] = r
		}
	}
	return out, rows.Err()
}

// OwnLanes returns operators lanes of their own, for good.
func (s *Store) OwnLanes(ctx context.Context, names []string) error {
	slices.Sort(names)
	_, err := s.db.Exec(ctx, `INSERT INTO operator (name, own) SELECT name, true FROM unnest($1::text[]) name
		ON CONFLICT (name) DO UPDATE SET own = true WHERE NOT operator.own`, names)
	return err
}

// LearnPace takes in what was met at an operator by a route and returns the pace
// from now on. The record is locked while it changes: who learns about several
// does it in one order, against deadlocks.
func (s *Store) LearnPace(ctx context.Context, operator string, route int64, seen pace.Seen, now time.Time, b pace.Bounds) (pace.Pace, error) {
	o, err := s.lockPace(ctx, operator, route)
	if err != nil {
		return pace.Pace{}, err
	}
	next := o.Pace.After(seen, now, b)
	_, err = s.db.Exec(ctx, `UPDATE operator_route SET pace = $3, asked_at = $4
		WHERE operator = $1 AND route_id = $2`,
		operator, route, next, now)
	return next, err
}

// lockPace locks the record of an operator by a route, which is made if it is
// new.
func (s *Store) lockPace(ctx context.Context, operator string, route int64) (OperatorRoute, error) {
	find := func() (OperatorRoute, error) {
		return one[OperatorRoute](ctx, s.db, "SELECT "+operatorRouteColumns+" FROM operator_route WHERE operator = $1 AND route_id = $2 FOR UPDATE", operator, route)
	}
	o, err := find()
	if !errors.Is(err, ErrNotFound) {
		return o, err
	}
	if _, err := s.db.Exec(ctx, `WITH known AS (INSERT INTO operator (name) VALUES ($1) ON CONFLICT DO NOTHING)
		INSERT INTO operator_route (operator, route_id, pace) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, operator, route, pace.Start()); err != nil {
		return o, err
	}
	return find()
}

// OperatorRoutes returns what has been learnt about operators, those asked last
// first, whose name has the text in it.
func (s *Store) OperatorRoutes(ctx context.Context, search string, limit int) ([]OperatorRoute, error) {
	return many[OperatorRoute](ctx, s.db, "SELECT "+operatorRouteColumns+` FROM operator_route
		WHERE $1 = '' OR operator ILIKE $1 ORDER BY asked_at DESC NULLS LAST, operator LIMIT $2`, pattern(search), limit)
}

// ForgetPace forgets what was learnt about an operator.
func (s *Store) ForgetPace(ctx context.Context, operator string) error {
	tag, err := s.db.Exec(ctx, "DELETE FROM operator_route WHERE operator = $1", operator)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// sortedKeys are the names in a map; of none they are empty, never nil, which in
// queries stands for all.
func sortedKeys[V any](m map[string]V) []string {
	return slices.AppendSeq(make([]string, 0, len(m)), slices.Values(slices.Sorted(maps.Keys(m))))
}
