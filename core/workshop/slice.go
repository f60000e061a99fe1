package workshop

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
)

// Slice is which rows of a table are taken by their place. The zero value takes all.
type Slice struct {
	From, To int64 // rows, from 1; To 0: to the end
	Every    int64 // every nth of those, the first among them; 0 and 1: each
	Last     int64 // the last so many of the table; 0: no matter
	Sample   int64 // so many of what is left, by chance; 0: all
	Seed     uint64
}

// mostSample is how many rows a sample may have: their places are held in memory.
const mostSample = 5_000_000

func (s Slice) check() error {
	switch {
	case s.From < 0 || s.To < 0 || s.Every < 0 || s.Last < 0 || s.Sample < 0:
		return fmt.Errorf("rows are counted from 1; a slice has no negative numbers")
	case s.To > 0 && s.To < s.From:
		return fmt.Errorf("the slice ends at row %d, before it begins at row %d", s.To, s.From)
	case s.Sample > mostSample:
		return fmt.Errorf("a sample has at most %d rows, not %d", int64(mostSample), s.Sample)
	}
	return nil
}

// takes reports whether the row at a place is taken by it, of a table with so many rows.
func (s Slice) takes(at, rows int64) bool {
	from := max(s.From, 1)
	if s.Last > 0 {
		from = max(from, rows-s.Last+1)
	}
	if at < from || s.To > 0 && at > s.To {
		return false
	}
	return s.Every <= 1 || (at-from)%s.Every == 0
}

// Take are the rows of a slice of a table, in their order. The same seed draws the same sample.
func Take(t Table, s Slice) (Table, error) {
	if err := s.check(); err != nil {
		return t, err
	}
	type counted struct {
		rows  int64
		drawn []int64
	}
	count := sync.OnceValues(func() (c counted, err error) {
		if s.Last > 0 || s.Sample > 0 {
			err = t.each(func(at int64, _ Row) error { c.rows = at; return nil })
		}
		c.drawn = s.draw(c.rows)
		return c, err
	})
	return t.chosen(func() (func(int64, Row) bool, error) {
		c, err := count()
		return func(at int64, _ Row) bool {
			if s.Sample == 0 {
				return s.takes(at, c.rows)
			}
			_, taken := slices.BinarySearch(c.drawn, at)
			return taken
		}, err
	}), nil
}

// draw draws the places of the sample, sorted; nil where there is none to draw.
func (s Slice) draw(rows int64) []int64 {
	if s.Sample == 0 {
		return nil
	}
	rng := rand.New(rand.NewPCG(s.Seed, uint64(rows)))
	drawn, seen := make([]int64, 0, min(s.Sample, rows)), int64(0)
	for at := int64(1); at <= rows; at++ {
		if !s.takes(at, rows) {
			continue
		}
		seen++
		switch { // each place takes the room of another with the right odds (Vitter, 1985, algorithm R)
		case int64(len(drawn)) < s.Sample:
			drawn = append(drawn, at)
		default:
			if i := rng.Int64N(seen); i < s.Sample {
				drawn[i] = at
			}
		}
	}
	slices.Sort(drawn)
	return drawn
}
