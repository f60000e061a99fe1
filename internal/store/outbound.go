package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/outbound"
	"varnet/core/rule"
	"varnet/internal/store/pack"
)

// OutboundPart is a part of outbound as it is kept.
type OutboundPart struct {
	ID   int64
	Kind outbound.Kind
	Name string
	Spec pack.PartSpec
	// Sealed is what is confidential of it.
	Sealed    []byte
	Outcome   *outbound.Outcome
	TestedAt  *time.Time
	RestUntil *time.Time
	Rests     int
	RestKind  string // refused or fails
	RestWhy   string
}

// Part is the part less what is confidential.
func (p OutboundPart) Part() outbound.Part { return p.Spec.Part(p.Kind, p.Name) }

// AsKept is the part as it would be kept.
func AsKept(p outbound.Part) OutboundPart {
	return OutboundPart{Kind: p.Kind, Name: p.Name, Spec: pack.SpecOf(p)}
}

// Resting tells until when the part is left alone; zero for not at all.
func (p OutboundPart) Resting() time.Time {
	if p.RestUntil == nil {
		return time.Time{}
	}
	return *p.RestUntil
}

// OutboundParts returns all parts in the order in which they were added.
func (s *Store) OutboundParts(ctx context.Context) ([]OutboundPart, error) {
	return many[OutboundPart](ctx, s.db, `SELECT p.id, p.kind, p.name, p.spec, p.sealed, o.outcome, o.at AS tested_at,
		p.rest_until, p.rests, p.rest_kind, p.rest_why
		FROM sending_part p LEFT JOIN sending_outcome o ON o.kind = p.kind AND o.name = p.name ORDER BY p.id`)
}

// AddOutboundPart adds a part, or changes the one of that kind and name; what
// was known of it is forgotten.
func (s *Store) AddOutboundPart(ctx context.Context, p outbound.Part, sealed []byte) error {
	_, err := s.db.Exec(ctx, `WITH forgotten AS (DELETE FROM sending_outcome WHERE kind = $1 AND name = $2)
		INSERT INTO sending_part (kind, name, spec, sealed) VALUES ($1, $2, $3, $4)
		ON CONFLICT (kind, name) DO UPDATE SET spec = EXCLUDED.spec, sealed = EXCLUDED.sealed,
		rest_until = NULL, rests = 0, rest_kind = '', rest_why = ''`, string(p.Kind), p.Name, pack.SpecOf(p), sealed)
	return err
}

// RemoveOutboundParts removes parts, and what operators do with them; it gives
// how many they were.
func (s *Store) RemoveOutboundParts(ctx context.Context, ids []int64) (n int64, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		tag, err := s.db.Exec(ctx, "DELETE FROM sending_part WHERE id = ANY($1)", ids)
		if err == nil {
			n = tag.RowsAffected()
			_, err = s.db.Exec(ctx, "DELETE FROM operator_route WHERE route_id = ANY($1)", ids)
		}
		return err
	})
	return n, err
}

// SaveOutcomes records what came of testing parts; a rest of theirs is over.
func (s *Store) SaveOutcomes(ctx context.Context, tested []outbound.Tested) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		for _, t := range tested {
			_, err := s.db.Exec(ctx, `WITH rested AS (UPDATE sending_part SET rest_until = NULL, rests = 0, rest_kind = '', rest_why = ''
					WHERE kind = $1 AND name = $2)
				INSERT INTO sending_outcome (kind, name, outcome) VALUES ($1, $2, $3)
				ON CONFLICT (kind, name) DO UPDATE SET outcome = EXCLUDED.outcome, at = now()`, string(t.Kind), t.Name, t.Outcome)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Outcome is what came of the last test of a part, and when.
type Outcome struct {
	Kind    outbound.Kind
	Name    string
	Outcome outbound.Outcome
	At      time.Time
}

// Outcomes returns what came of the last tests.
func (s *Store) Outcomes(ctx context.Context) ([]Outcome, error) {
	return many[Outcome](ctx, s.db, "SELECT kind, name, outcome, at FROM sending_outcome")
}

// OutboundSettings hold for all of outbound.
type OutboundSettings struct {
	Cap       int
	Reference []string
	Rules     []rule.Rule
}

// OutboundSettings returns them.
func (s *Store) OutboundSettings(ctx context.Context) (OutboundSettings, error) {
	return one[OutboundSettings](ctx, s.db, "SELECT cap, reference, rules FROM sending_setting")
}

// SaveOutboundSettings changes them.
func (s *Store) SaveOutboundSettings(ctx context.Context, n OutboundSettings) error {
	_, err := s.db.Exec(ctx, "UPDATE sending_setting SET cap = $1, reference = $2, rules = $3", n.Cap, n.Reference, n.Rules)
	return err
}

// Refusal is one operator that refuses us by a route.
type Refusal struct {
	Operator     string
	RouteID      int64
	BlockedAt    time.Time
	BlockedUntil time.Time
	Words        string
}

// Refusals returns which operators refused us since then, the latest first.
func (s *Store) Refusals(ctx context.Context, since time.Time, limit int) ([]Refusal, error) {
	return many[Refusal](ctx, s.db, `SELECT operator, route_id, blocked_at, blocked_until, words FROM operator_route
		WHERE blocked_at > $1 ORDER BY blocked_at DESC, operator LIMIT $2`, since, limit)
}

// RouteUse counts the operators asked by a route since then, and those of them
// that refuse it.
func (s *Store) RouteUse(ctx context.Context, route int64, since time.Time) (asked, refusing int, err error) {
	err = s.db.QueryRow(ctx, `SELECT count(*), count(*) FILTER (WHERE blocked_until > now()) FROM operator_route
		WHERE route_id = $1 AND asked_at > $2`, route, since).Scan(&asked, &refusing)
	return asked, refusing, err
}

// Block records that an operator refuses us by a route.
func (s *Store) Block(ctx context.Context, operator string, route int64, until time.Time, words string) error {
	_, err := s.db.Exec(ctx, `UPDATE operator_route SET blocked_at = now(), blocked_until = $3, words = $4
		WHERE operator = $1 AND route_id = $2`, operator, route, until, words)
	return err
}

// RestRoute leaves a route alone for a while, the longer the more often it had
// to rest: rest times 1, 2, 4 and so on, at most most. It gives until when; ok
// is false when it rests already.
func (s *Store) RestRoute(ctx context.Context, id int64, rest, most time.Duration, kind, why string) (until time.Time, ok bool, err error) {
	err = s.db.QueryRow(ctx, `UPDATE sending_part SET rests = rests + 1, rest_kind = $4, rest_why = $5,
		rest_until = now() + least($2::interval * power(2, least(rests, 20)), $3::interval)
		WHERE id = $1 AND (rest_until IS NULL OR rest_until <= now()) RETURNING rest_until`, id, rest, most, kind, why).Scan(&until)
	if errors.Is(err, pgx.ErrNoRows) {
		return until, false, nil
	}
	return until, err == nil, err
}

// RouteWell forgets that a route failed: it works again.
func (s *Store) RouteWell(ctx context.Context, id int64) error {
	_, err := s.db.Exec(ctx, `UPDATE sending_part SET rests = 0, rest_kind = '', rest_why = '', rest_until = NULL
		WHERE id = $1 AND rest_kind = 'fails' AND rest_until <= now()`, id)
	return err
}

// Notice is something that happened to outbound during a run.
type Notice struct {
	At       time.Time
	Kind     string // refused, rests or fails
	Route    string
	Operator string
	Words    string
	Until    *time.Time
	Moved    bool
}

// AddNotice records what happened; the same thing is recorded once.
func (s *Store) AddNotice(ctx context.Context, run int64, n Notice) error {
	_, err := s.db.Exec(ctx, `INSERT INTO run_notice (run_id, kind, route, operator, words, until, moved) VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (run_id, kind, route, operator) DO UPDATE SET at = now(), words = EXCLUDED.words, until = EXCLUDED.until, moved = EXCLUDED.moved`,
		run, n.Kind, n.Route, n.Operator, n.Words, n.Until, n.Moved)
	return err
}

// Notices returns what happened during runs, in order, by the run.
func (s *Store) Notices(ctx context.Context, runs ...int64) (map[int64][]Notice, error) {
	type record struct {
		RunID int64
		Notice
	}
	list, err := many[record](ctx, s.db, "SELECT run_id, at, kind, route, operator, words, until, moved FROM run_notice WHERE run_id = ANY($1) ORDER BY at, route, operator", runs)
	found := map[int64][]Notice{}
	for _, r := range list {
		found[r.RunID] = append(found[r.RunID], r.Notice)
	}
	return found, err
}
