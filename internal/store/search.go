package store

import (
	"context"
	"math"
	"strings"

	"github.com/jackc/pgx/v5"
)

// textBlock is how many ordinals a block of a list's texts covers.
const textBlock = 2000

// textChunk is how many ordinals are read at a time to make texts of them.
const textChunk = 20 * textBlock

// MakeTexts makes the texts of a list that are searched, all of them or none.
// Without them a search goes through the rows.
func (s *Store) MakeTexts(ctx context.Context, list int64) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if made, err := s.textsMade(ctx, list); made || err != nil {
			return err
		}
		var last int32
		if err := s.db.QueryRow(ctx, "SELECT coalesce(max(ordinal), 0) FROM list_row WHERE list_id = $1", list).Scan(&last); err != nil {
			return err
		}
		for from := int32(1); from <= last; from += textChunk {
			if err := s.makeTexts(ctx, list, from); err != nil {
				return err
			}
		}
		return nil
	})
}

// makeTexts makes the texts of a chunk of ordinals.
func (s *Store) makeTexts(ctx context.Context, list int64, from int32) error {
	rows, err := s.db.Query(ctx, `SELECT ordinal, typed FROM list_row
		WHERE list_id = $1 AND ordinal >= $2 AND ordinal < $2 + $3 AND address = ordinal ORDER BY ordinal`, list, from, textChunk)
	if err != nil {
		return err
	}
	var blocks [][]any
	var ordinals []int32
	var texts []byte
	end := func() {
		if n := len(ordinals); n > 0 {
			blocks = append(blocks, []any{list, ordinals[n-1], ordinals, string(texts)})
		}
		ordinals, texts = nil, nil
	}
	var ordinal int32
	var text string
	_, err = pgx.ForEachRow(rows, []any{&ordinal, &text}, func() error {
		if len(ordinals) > 0 && (ordinal-1)/textBlock != (ordinals[0]-1)/textBlock {
			end()
		}
		if len(ordinals) > 0 {
			texts = append(texts, '\n')
		}
		ordinals, texts = append(ordinals, ordinal), append(texts, strings.ReplaceAll(strings.ToLower(text), "\n", " ")...)
		return nil
	})
	if err != nil {
		return err
	}
	end()
	_, err = s.db.CopyFrom(ctx, pgx.Identifier{"list_text"}, []string{"list_id", "last", "ordinals", "texts"}, pgx.CopyFromRows(blocks))
	return err
}

func (s *Store) textsMade(ctx context.Context, list int64) (made bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM list_text WHERE list_id = $1)", list).Scan(&made)
	return made, err
}

// resultsBySearch gives a page of results whose address cell holds a text.
func (s *Store) resultsBySearch(ctx context.Context, run Run, f ResultFilter, ok fitting) ([]Result, error) {
	var found []int32
	for last, blocks := f.After, 1; len(found) < f.Limit; blocks *= moreBlocks {
		ordinals, end, err := s.matches(ctx, run.ListID, f.After, last, strings.ToLower(f.Search), blocks)
		if err != nil {
			return nil, err
		}
		if len(ordinals) == 0 {
			break
		}
		found, last = append(found, ok.among(ordinals)...), end
	}
	return s.resultsAt(ctx, run, ok.Standing, found[:min(len(found), f.Limit)], "")
}

// withText gives the ordinals of all address cells of a list that hold a text.
func (s *Store) withText(ctx context.Context, list int64, search string) ([]int32, error) {
	made, err := s.textsMade(ctx, list)
	if err != nil {
		return nil, err
	}
	if made {
		found, _, err := s.matches(ctx, list, 0, 0, strings.ToLower(search), math.MaxInt32)
		return found, err
	}
	rows, err := s.db.Query(ctx, "SELECT ordinal FROM list_row WHERE list_id = $1 AND address = ordinal AND typed ILIKE $2 ORDER BY ordinal", list, pattern(search))
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int32])
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
