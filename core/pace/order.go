package pace

import (
	"fmt"
	"hash/fnv"
	"strings"
	"time"
)

// How the addresses of a run are cut into parcels.
const (
	// ParcelSize is the most addresses of a parcel: enough that the bookkeeping
	// of a parcel is little beside asking, and just under three full sessions.
	ParcelSize = 576
	// firstParcel is how many the first parcels have, so few that an operator
	// nothing is known about soon earns more lanes; doubled, they come to half a
	// session, one and two.
	firstParcel = 24
	// lastShare is which part of what is left a parcel holds at the most, so that
	// all lanes have something to do until the end; unless that is not worth a
	// session of its own: less than a leastShare of all, up to lastParcel.
	lastShare, leastShare = 6, 8
	lastParcel            = 48
	// OwnFrom is from how many addresses on an operator gets lanes of its own.
	OwnFrom = 30
	// SharedLanes is how many lanes all the small operators share.
	SharedLanes = 64
)

// Cut gives the sizes of the parcels of so many addresses of a lane key: small
// ones first, two of each size, each size twice the one before; and smaller ones
// again towards the end. Where others were cut before of the same that is planned in
// parts, none need be small at the beginning; where more come, none at the end.
func Cut(addresses int, before, more bool) (sizes []int) {
	least := min(max(addresses/leastShare, firstParcel), lastParcel)
	size := firstParcel
	if before {
		size = ParcelSize
	}
	for addresses > 0 {
		n := min(size, addresses)
		if !more {
			n = min(n, max(least, addresses/lastShare))
		}
		if addresses-n < least/2 {
			n = addresses // a rest that is not worth a parcel of its own
		}
		sizes = append(sizes, n)
		addresses -= n
		if len(sizes)%2 == 0 {
			size = min(2*size, ParcelSize)
		}
	}
	return sizes
}

// SharedKey is the lane key of a small operator: always the same one, so that
// it never sees two sessions at a time.
func SharedKey(operator string) string {
	h := fnv.New32a()
	_, _ = h.Write([]byte(operator))
	return SharedLane(int(h.Sum32() % SharedLanes))
}

// IsShared tells the key of a lane that small operators share.
func IsShared(key string) bool { return strings.HasPrefix(key, "~") }

// SharedLane is the key of one of the lanes that small operators share.
func SharedLane(i int) string { return fmt.Sprintf("~%02d", i) }

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
