package store

import (
	"context"
	"strings"

	"varnet/core/opinion"
)

// OpinionMeans returns what the words of other checks mean, by the name of the check in lower case.
func (s *Store) OpinionMeans(ctx context.Context, workspace int64) (map[string]opinion.Means, error) {
	type record struct {
		Name  string
		Means opinion.Means
	}
	found, err := many[record](ctx, s.db, "SELECT name, means FROM opinion_mapping WHERE workspace_id = $1", workspace)
	out := make(map[string]opinion.Means, len(found))
	for _, r := range found {
		out[r.Name] = r.Means
	}
	return out, err
}

// SetOpinionMeans keeps what the words of another check mean.
func (s *Store) SetOpinionMeans(ctx context.Context, workspace int64, name string, m opinion.Means) error {
	_, err := s.db.Exec(ctx, `INSERT INTO opinion_mapping (workspace_id, name, means) VALUES ($1, $2, $3)
		ON CONFLICT (workspace_id, name) DO UPDATE SET means = EXCLUDED.means`, workspace, strings.ToLower(name), m)
	return err
}

// OutcomesOfList calls do for each letter to a list, or to a list that it was before, whose mailing is
// over: by its canonical form, with what had been said of it and what became of it.
func (s *Store) OutcomesOfList(ctx context.Context, workspace, list int64, do func(Mailed)) error {
	mailings, err := many[Mailing](ctx, s.db, "SELECT "+mailingColumns+` FROM mailing WHERE workspace_id = $1 AND state = $3 AND list_id IN (
		WITH RECURSIVE earlier AS (SELECT id, earlier_id FROM list WHERE id = $2
			UNION SELECT l.id, l.earlier_id FROM list l JOIN earlier ON l.id = earlier.earlier_id) SELECT id FROM earlier) ORDER BY id`, workspace, list, MailingClosed)
	if err != nil {
		return err
	}
	for _, m := range mailings {
		if err := s.EachLetter(ctx, m.ID, func(l Mailed) error { do(l); return nil }); err != nil {
			return err
		}
	}
	return nil
}
