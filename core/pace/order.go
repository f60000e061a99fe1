package pace

import (
	"fmt"
	"hash/fnv"
	"time"
)

// How the addresses of a run are cut into parcels.
const (
	// ParcelSize is the most addresses of a parcel: enough that the bookkeeping
	// of a parcel is little beside asking.
	ParcelSize = 600
	// leastParcel is how many addresses make a parcel worth its bookkeeping.
	leastParcel = 100
	// share is how many parcels the addresses of a lane key make at the least, so
	// that all of its lanes have something to do until the end.
	share = 32
	// OwnFrom is from how many addresses on an operator gets lanes of its own.
	OwnFrom = 30
	// SharedLanes is how many lanes all the small operators share.
	SharedLanes = 64
)

// Parcel gives how many addresses to put in a parcel, of so many of a lane key.
func Parcel(addresses int) int { return max(leastParcel, min(addresses/share, ParcelSize)) }

// SharedKey is the lane key of a small operator: always the same one, so that
// it never sees two sessions at a time.
func SharedKey(operator string) string {
	h := fnv.New32a()
	_, _ = h.Write([]byte(operator))
	return fmt.Sprintf("~%02d", h.Sum32()%SharedLanes)
}

// firstTurns is how many turns of a run go before the length of others' work:
// all of a small list, the beginning of a large one.
const firstTurns = 2

// Urgency tells how soon a lane is to be worked when there are more than
// sessions, 1 first, 4 last. What takes longest goes first, since the run ends
// with it; but the first turns of any run, so all of a small one, do not wait
// behind that.
func Urgency(turn int32, left time.Duration) int {
	switch {
	case turn < firstTurns || left > 10*time.Minute:
		return 1
	case left > 2*time.Minute:
		return 2
	case left > 20*time.Second:
		return 3
	}
	return 4
}
