package workshop

import (
	"cmp"
	"hash/maphash"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Profile is what the cells of a column are like.
type Profile struct {
	Column            string
	Rows, Empty       int64
	Distinct          int64 // among the cells that are not empty
	Exact             bool  // false: there are more than are counted
	Shortest, Longest int   // in characters, of those that are not empty
	Most              []Count
	// Dates are how many cells hold one; First and Last are the earliest and the latest of them.
	Dates       int64
	First, Last time.Time
}

// Count is how often a value stands in a column.
type Count struct {
	Value string
	Rows  int64
}

// The bounds of a profile.
const (
	mostDistinct = 100_000   // values that are counted exactly
	mostHeld     = 256 << 10 // bytes of them that are held, for telling the commonest
	mostCommon   = 10        // values that are told
	longestValue = 200       // bytes of a value that is told
	mostProfiled = 200       // columns
)

// Profiles returns what the columns of a table are like.
func Profiles(t Table) ([]Profile, error) {
	all := make([]*profiling, min(len(t.Columns), mostProfiled))
	for c := range all {
		all[c] = &profiling{Profile: Profile{Column: t.Columns[c], Exact: true}, values: map[string]int64{}, hashes: map[uint64]bool{}, date: t.Date(c)}
	}
	err := t.each(func(_ int64, r Row) error {
		cells := r.Cells()
		for c, p := range all {
			if c < len(cells) {
				p.see(cells[c])
			} else {
				p.see("")
			}
		}
		return nil
	})
	out := make([]Profile, len(all))
	for c, p := range all {
		p.Profile.Distinct, p.Most = int64(len(p.hashes)), p.common()
		out[c] = p.Profile
	}
	return out, err
}

type profiling struct {
	Profile
	values map[string]int64
	held   int
	hashes map[uint64]bool
	date   func(string) (time.Time, bool)
}

func (p *profiling) see(cell string) {
	p.Rows++
	if empty(cell) {
		p.Empty++
		return
	}
	n := utf8.RuneCountInString(cell)
	if p.Shortest == 0 || n < p.Shortest {
		p.Shortest = n
	}
	p.Longest = max(p.Longest, n)
	if at, ok := p.date(cell); ok {
		if p.Dates++; p.Dates == 1 || at.Before(p.First) {
			p.First = at
		}
		if p.Dates == 1 || at.After(p.Last) {
			p.Last = at
		}
	}
	p.count(cell)
}

// count counts a value. Once there are too many, those that come often are counted on.
func (p *profiling) count(cell string) {
	h := maphash.String(seeds[0], cell)
	if !p.hashes[h] {
		if len(p.hashes) >= mostDistinct {
			p.Exact = false
		} else {
			p.hashes[h] = true
		}
	}
	n := p.values[cell]
	if n == 0 && (len(cell) > longestValue || p.held+len(cell) > mostHeld) {
		return
	}
	if n == 0 {
		cell = strings.Clone(cell)
		p.held += len(cell)
	}
	p.values[cell] = n + 1
}

// common are the values that stand most often in the column, those that come twice at least.
func (p *profiling) common() []Count {
	most := []Count{}
	for v, n := range p.values {
		if n > 1 {
			most = append(most, Count{v, n})
		}
	}
	slices.SortFunc(most, func(a, b Count) int { return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Value, b.Value)) })
	return most[:min(len(most), mostCommon)]
}
