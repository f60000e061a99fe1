package route

import (
	"hash/fnv"
	"strconv"
	"time"
)

// Candidate is a route that an operator may be asked by.
type Candidate struct {
	ID int64
	// RestUntil is until when the route rests for everybody: it failed, or
	// too many hosts refuse it.
	RestUntil time.Time
	// BlockedUntil is until when this operator is taken to refuse it.
	BlockedUntil time.Time
}

// Choose returns the place of the candidate by which the operator is asked now.
// An operator keeps its route as long as that is good, so that greylisting
// hosts see the same client come back; over many operators the routes are used
// evenly; and when one goes, only its own operators move (rendezvous hashing).
//
// When every route rests, until tells when the first is free again. When every
// free route is refused by the operator, the one refused longest ago is chosen.
func Choose(operator string, from []Candidate, now time.Time) (place int, until time.Time) {
	place = -1
	var first time.Time
	for i, c := range from {
		if now.Before(c.RestUntil) {
			if first.IsZero() || c.RestUntil.Before(first) {
				first = c.RestUntil
			}
			continue
		}
		if place < 0 || better(operator, c, from[place], now) {
			place = i
		}
	}
	if place < 0 {
		return 0, first
	}
	return place, time.Time{}
}

func better(operator string, a, b Candidate, now time.Time) bool {
	blockedA, blockedB := now.Before(a.BlockedUntil), now.Before(b.BlockedUntil)
	switch {
	case blockedA != blockedB:
		return blockedB
	case blockedA && !a.BlockedUntil.Equal(b.BlockedUntil):
		return a.BlockedUntil.Before(b.BlockedUntil)
	}
	return Weight(operator, a.ID) > Weight(operator, b.ID)
}

// Weight is the candidate's weight for an operator: as good as random, and
// always the same.
func Weight(operator string, id int64) uint64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(operator + "|" + strconv.FormatInt(id, 10)))
	x := h.Sum64()
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	return x ^ x>>33
}

// The bounds from which on a route is taken to be refused in general: so many
// hosts, and at least a third of those asked by it lately.
const (
	refusedFrom  = 5
	refusedShare = 3
)

// Refused tells a route that too many of the hosts asked by it refuse.
func Refused(refusing, asked int) bool {
	return refusing >= refusedFrom && refusing*refusedShare >= asked
}
