package store

import (
	"context"
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
	found, last, text := []Result{}, f.After, strings.ToLower(f.Search)
	for blocks := 1; len(found) < f.Limit; blocks *= moreBlocks {
		ordinals, end, err := s.matches(ctx, run.ListID, f.After, last, text, blocks)
		if err != nil || len(ordinals) == 0 {
			return found, err
		}
		page, err := s.resultsAt(ctx, run, f, ordinals)
		if err != nil {
			return nil, err
		}
		found, last = append(found, page...), end
	}
	return found[:f.Limit], nil
}

// moreBlocks is how many times as many blocks are read each time than before:
// where few matches have the verdict that is wanted, many are looked up in one go.
const moreBlocks = 4

// matches gives the ordinals after one whose text holds another, out of the next
// blocks after last that have any, and the last of these blocks. The blocks are
// read before anything else is asked: who holds one connection and waits for
// another may wait for ever.
func (s *Store) matches(ctx context.Context, list int64, after, last int32, text string, blocks int) (found []int32, end int32, err error) {
	read, err := many[struct {
		Last     int32
		Ordinals []int32
		Texts    string
	}](ctx, s.db, `SELECT last, ordinals, texts FROM list_text
		WHERE list_id = $1 AND last > $2 AND strpos(texts, $3) > 0 ORDER BY last LIMIT $4`, list, last, text, blocks)
	for _, b := range read {
		for i, line := range strings.Split(b.Texts, "\n") {
			if b.Ordinals[i] > after && strings.Contains(line, text) {
				found = append(found, b.Ordinals[i])
			}
		}
		end = b.Last
	}
	if err == nil && len(found) == 0 && len(read) > 0 { // what matches in them was before
		return s.matches(ctx, list, after, end, text, blocks)
	}
	return found, end, err
}

// resultsAt gives the results at some ordinals, in their order.
func (s *Store) resultsAt(ctx context.Context, run Run, f ResultFilter, ordinals []int32) ([]Result, error) {
	return many[Result](ctx, s.db, `
		SELECT x.address, r.typed, `+mailbox+`, r.domain, x.verdict, x.at
		FROM (SELECT o, n FROM unnest($3::int[]) WITH ORDINALITY w(o, n)) w
		CROSS JOIN LATERAL (SELECT address, verdict, at FROM result
			WHERE run_id = $1 AND address = w.o AND ($4::int[] IS NULL OR verdict = ANY($4)) LIMIT 1) x
		CROSS JOIN LATERAL (SELECT typed, mailbox, domain FROM list_row WHERE list_id = $2 AND ordinal = w.o LIMIT 1) r
		ORDER BY w.n LIMIT $5`, run.ID, run.ListID, ordinals, f.Verdicts, f.Limit)
}

// resultsByRows goes through the rows of a list whose texts are not made yet.
func (s *Store) resultsByRows(ctx context.Context, run Run, f ResultFilter) ([]Result, error) {
	return many[Result](ctx, s.db, `
		SELECT x.address, r.typed, `+mailbox+`, r.domain, x.verdict, x.at
		FROM result x JOIN list_row r ON r.list_id = $2 AND r.ordinal = x.address
		WHERE x.run_id = $1 AND x.address > $3 AND ($4::int[] IS NULL OR x.verdict = ANY($4)) AND r.typed ILIKE $5
		ORDER BY x.address LIMIT $6`, run.ID, run.ListID, f.After, f.Verdicts, pattern(f.Search), f.Limit)
}
