package sheet

import (
	"encoding/binary"
	"math"
	"strings"
	"time"
)

// Rank is by what cells of a column are put in order: bytes that compare as the
// cells do. Texts count by their first 23 bytes in small letters.
type Rank [24]byte

// Rank returns the rank of a cell of a column of the kind. Empty cells come first,
// then those that are not of the kind, as texts.
func (k Kind) Rank(cell string) (r Rank) {
	cell = strings.TrimSpace(cell)
	if cell == "" {
		return r
	}
	var number float64
	ok := false
	switch k.Type {
	case Number:
		number, ok = ParseNumber(cell)
	case Date:
		if t, err := time.Parse(k.Layout, cell); err == nil {
			number, ok = float64(t.Unix()), true
		}
	}
	if !ok {
		r[0] = 1
		copy(r[1:], strings.ToLower(cell))
		return r
	}
	bits := math.Float64bits(number)
	if number < 0 {
		bits = ^bits // the further below zero, the smaller
	} else {
		bits |= 1 << 63
	}
	r[0] = 2
	binary.BigEndian.PutUint64(r[1:], bits)
	return r
}
