package workshop

import (
	"fmt"
	"hash/maphash"
	"math/rand/v2"
	"slices"
)

// Slice is which rows of a table are taken by their place. The zero value takes all.
type Slice struct {
	From, To int64 // rows, from 1; To 0: to the end
	Every    int64 // every nth of those, the first among them; 0 and 1: each
	Last     int64 // the last so many of the table; 0: no matter
	Sample   int64 // so many of what is left, by chance; 0: all
	Seed     uint64
}

func (s Slice) check() error {
	switch {
	case s.From < 0 || s.To < 0 || s.Every < 0 || s.Last < 0 || s.Sample < 0:
		return fmt.Errorf("rows are counted from 1; a slice has no negative numbers")
	case s.To > 0 && s.To < s.From:
		return fmt.Errorf("the slice ends at row %d, before it begins at row %d", s.To, s.From)
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

// Take makes the rows of a slice of a table, in their order. The same seed draws the same
// sample.
func Take(t Table, s Slice, out Out) (r Report, err error) {
	if err := s.check(); err != nil {
		return r, err
	}
	rows := int64(0)
	if s.Last > 0 || s.Sample > 0 {
		for _, err := range t.Rows() {
			if err != nil {
				return r, err
			}
			rows++
		}
	}
	drawn, err := s.draw(rows)
	if err != nil {
		return r, err
	}
	at := int64(0)
	return each(t, out, func([]string) bool {
		at++
		if drawn == nil {
			return s.takes(at, rows)
		}
		_, taken := slices.BinarySearch(drawn, at)
		return taken
	})
}

// draw draws the places of the sample, sorted; nil where there is none to draw.
func (s Slice) draw(rows int64) ([]int64, error) {
	if s.Sample == 0 {
		return nil, nil
	}
	rng := rand.New(rand.NewPCG(s.Seed, uint64(rows)))
	drawn, seen := make([]int64, 0, s.Sample), int64(0)
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
	return drawn, nil
}

// Profile is what the cells of a column are like.
type Profile struct {
	Rows, Empty       int64
	Distinct          int64 // among the cells that are not empty
	Exact             bool  // false: there are more than are counted
	Shortest, Longest int   // in characters, of those that are not empty
	Most              []Count
}

// Count is how often a value stands in a column.
type Count struct {
	Value string
	Rows  int64
}

// The bounds of a profile.
const (
	mostDistinct = 100_000 // values that are counted exactly
	mostCommon   = 10      // values that are told
	longestValue = 200     // bytes of a value that is told
)

// Profiles returns what the columns of a table are like.
func Profiles(t Table) ([]Profile, error) {
	seed := maphash.MakeSeed()
	profiles, values, hashes := make([]Profile, len(t.Columns)), make([]map[string]int64, len(t.Columns)), make([]map[uint64]bool, len(t.Columns))
	for c := range profiles {
		profiles[c].Exact, values[c], hashes[c] = true, map[string]int64{}, map[uint64]bool{}
	}
	for row, err := range t.Rows() {
		if err != nil {
			return nil, err
		}
		for c := range profiles {
			profiles[c].see(Cell(row, c), values[c], hashes[c], seed)
		}
	}
	for c := range profiles {
		profiles[c].Distinct, profiles[c].Most = int64(len(hashes[c])), common(values[c])
	}
	return profiles, nil
}

func (p *Profile) see(cell string, values map[string]int64, hashes map[uint64]bool, seed maphash.Seed) {
	p.Rows++
	if cell == "" {
		p.Empty++
		return
	}
	n := len([]rune(cell))
	if p.Shortest == 0 || n < p.Shortest {
		p.Shortest = n
	}
	p.Longest = max(p.Longest, n)
	h := maphash.String(seed, cell)
	switch known := hashes[h]; {
	case !known && len(hashes) >= mostDistinct:
		p.Exact = false
		return
	case !known:
		hashes[h] = true
	}
	if len(cell) <= longestValue {
		values[cell]++
	}
}

// common are the values that stand most often in a column, those that come twice at least.
func common(values map[string]int64) (most []Count) {
	for v, n := range values {
		if n > 1 {
			most = append(most, Count{v, n})
		}
	}
	slices.SortFunc(most, func(a, b Count) int {
		if a.Rows != b.Rows {
			return int(b.Rows - a.Rows)
		}
		if a.Value < b.Value {
			return -1
		}
		return 1
	})
	return most[:min(len(most), mostCommon)]
}
