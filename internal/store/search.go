package store

import (
	"context"
	"slices"
	"strings"
)

// textBlock is how many ordinals a block of a list's texts covers.
const textBlock = 2000

// MakeTexts makes the texts of a list that are searched. Without them a search
// goes through the rows.
func (s *Store) MakeTexts(ctx context.Context, list int64) error {
	_, err := s.db.Exec(ctx, `INSERT INTO list_text (list_id, last, ordinals, texts)
		SELECT $1, max(ordinal), array_agg(ordinal ORDER BY ordinal), string_agg(replace(lower(typed), E'\n', ' '), E'\n' ORDER BY ordinal)
		FROM list_row WHERE list_id = $1 AND address = ordinal GROUP BY (ordinal - 1) / $2::int
		ON CONFLICT DO NOTHING`, list, textBlock)
	return err
}

// resultsBySearch gives a page of results whose address cell holds a text.
func (s *Store) resultsBySearch(ctx context.Context, run Run, f ResultFilter) ([]Result, error) {
	made := false
	err := s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM list_text WHERE list_id = $1)", run.ListID).Scan(&made)
	if err != nil {
		return nil, err
	}
	if !made {
		return s.resultsByRows(ctx, run, f)
	}
	found := []Result{}
	next := func(ordinals []int32) (full bool, err error) {
		page, err := s.resultsAt(ctx, run, f, ordinals)
		found = append(found, page...)
		return len(found) >= f.Limit, err
	}
	err = s.eachMatch(ctx, run.ListID, f.After, strings.ToLower(f.Search), f.Limit, next)
	return found[:min(len(found), f.Limit)], err
}

// moreMatches is how much larger each batch of matches is than the one before:
// where few have the verdict that is wanted, many are looked up in one go.
const moreMatches = 4

// eachMatch gives the ordinals after one whose text holds another, first as many
// as fill a page, until do is full.
func (s *Store) eachMatch(ctx context.Context, list int64, after int32, text string, page int, do func([]int32) (full bool, err error)) error {
	rows, err := s.pool.Query(ctx, `SELECT ordinals, texts FROM list_text
		WHERE list_id = $1 AND last > $2 AND strpos(texts, $3) > 0 ORDER BY last`, list, after, text)
	if err != nil {
		return err
	}
	defer rows.Close()
	var batch, ordinals []int32
	var texts string
	for rows.Next() {
		if err := rows.Scan(&ordinals, &texts); err != nil {
			return err
		}
		i := 0
		for line := range strings.SplitSeq(texts, "\n") {
			if ordinals[i] > after && strings.Contains(line, text) {
				batch = append(batch, ordinals[i])
			}
			i++
		}
		if len(batch) < page {
			continue
		}
		if full, err := do(batch); full || err != nil {
			return err
		}
		batch, page = batch[:0], page*moreMatches
	}
	if len(batch) > 0 {
		_, err = do(batch)
	}
	return err
}

// resultsAt gives the results at some ordinals, in their order.
func (s *Store) resultsAt(ctx context.Context, run Run, f ResultFilter, ordinals []int32) ([]Result, error) {
	return many[Result](ctx, s.db, `
		SELECT x.address, r.typed, `+mailbox+`, r.domain, x.verdict, x.at
		FROM (SELECT o, n FROM unnest($3::int[]) WITH ORDINALITY w(o, n)) w
		CROSS JOIN LATERAL (SELECT address, verdict, at FROM result
			WHERE run_id = $1 AND address = w.o AND ($4::int[] IS NULL OR verdict = ANY($4)) LIMIT 1) x
		CROSS JOIN LATERAL (SELECT typed, mailbox, domain FROM list_row WHERE list_id = $2 AND ordinal = w.o LIMIT 1) r
		ORDER BY w.n LIMIT $5`, run.ID, run.ListID, slices.Clone(ordinals), f.Verdicts, f.Limit)
}

// resultsByRows goes through the rows of a list whose texts are not made yet.
func (s *Store) resultsByRows(ctx context.Context, run Run, f ResultFilter) ([]Result, error) {
	return many[Result](ctx, s.db, `
		SELECT x.address, r.typed, `+mailbox+`, r.domain, x.verdict, x.at
		FROM result x JOIN list_row r ON r.list_id = $2 AND r.ordinal = x.address
		WHERE x.run_id = $1 AND x.address > $3 AND ($4::int[] IS NULL OR x.verdict = ANY($4)) AND r.typed ILIKE $5
		ORDER BY x.address LIMIT $6`, run.ID, run.ListID, f.After, f.Verdicts, pattern(f.Search), f.Limit)
}
