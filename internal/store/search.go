package store

import (
	"context"
	"fmt"
	"math"
	"strings"

	"github.com/jackc/pgx/v5"

	"varnet/internal/store/pack"
)

// resultsBySearch returns a page of results whose address cell holds a text.
func (s *Store) resultsBySearch(ctx context.Context, run Run, f ResultFilter) ([]Result, error) {
	ok, err := s.matching(ctx, run, f)
	if err != nil {
		return nil, err
	}
	var found []Standing
	for last, blocks := f.After, firstBlocks; len(found) < f.Limit; blocks *= moreBlocks {
		ordinals, end, err := s.matches(ctx, run.ListID, last, f.Search, blocks)
		if err != nil {
			return nil, err
		}
		chosen, err := ok.among(ctx, ordinals)
		if err != nil {
			return nil, err
		}
		found = append(found, chosen...)
		if end == 0 {
			break
		}
		last = end
	}
	return s.resultsAt(ctx, run, found[:min(len(found), f.Limit)])
}

// withText returns the ordinals of all address cells of a list that hold a text.
func (s *Store) withText(ctx context.Context, list int64, search string) ([]int32, error) {
	found, _, err := s.matches(ctx, list, 0, search, math.MaxInt32)
	return found, err
}

// A search looks through so many blocks first, and so many times as many each time
// after.
const (
	firstBlocks = 4
	moreBlocks  = 8
)

// matches returns the ordinals whose text holds another, out of the next blocks after
// an ordinal, and the last ordinal of these; 0 where no more come. Which blocks these
// are is settled first: the planner does not know that looking into a text costs much
// more than passing it by.
func (s *Store) matches(ctx context.Context, list int64, after int32, text string, blocks int) (found []int32, end int32, err error) {
	text = pack.Searched(text)
	may, args := mayHold(text, []any{list, after, text, blocks})
	rows, err := s.db.Query(ctx, `SELECT first, last, CASE WHEN `+may+` THEN CASE WHEN strpos(texts, $3) > 0 THEN texts END END
		FROM (SELECT first, last, texts, grams FROM row_block WHERE list_id = $1 AND last > $2 ORDER BY last LIMIT $4) b ORDER BY last`, args...)
	if err != nil {
		return nil, 0, err
	}
	read := 0
	var ordinal int32
	var texts *string
	_, err = pgx.ForEachRow(rows, []any{&ordinal, &end, &texts}, func() error {
		if read++; texts == nil {
			return nil
		}
		for line := range strings.SplitSeq(*texts, "\n") {
			if strings.Contains(line, text) {
				found = append(found, ordinal)
			}
			ordinal++
		}
		return nil
	})
	if read < blocks {
		end = 0
	}
	return found, end, err
}

// mayHold returns a condition in SQL that is false of blocks whose grams rule a text out, and the arguments with its own.
// It looks for MostGrams bits, the last one repeatedly where the text has fewer, so that one prepared statement serves
// all texts.
func mayHold(text string, args []any) (string, []any) {
	grams := pack.GramsOf(text)
	if len(grams) == 0 {
		return "true", args
	}
	set := make([]string, pack.MostGrams)
	for i := range set {
		args = append(args, grams[min(i, len(grams)-1)])
		set[i] = fmt.Sprintf("get_bit(grams, $%d) = 1", len(args))
	}
	return "grams IS NULL OR " + strings.Join(set, " AND "), args
}
