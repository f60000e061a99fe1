package pace

import (
	"fmt"
	"hash/fnv"
	"math"
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
	// leastParcel is from how many addresses on a parcel is worth a session of its
	// own, or as many as a lane gets through in leastTurn.
	leastParcel = 12
	leastTurn   = 1500 * time.Millisecond
	// OwnFrom is from how many addresses on an operator gets lanes of its own.
	OwnFrom = 30
	// SharedLanes is how many lanes all the small operators share.
	SharedLanes = 64
)

// Cut returns the sizes of the parcels of so many addresses of a lane key: small
// ones first, two of each size, each size twice the one before. Where others were
// cut before of the same that is planned in parts, none need be small.
func Cut(addresses int, before bool) (sizes []int) {
	size := firstParcel
	if before {
		size = ParcelSize
	}
	for addresses > 0 {
		n := min(size, addresses)
		if addresses-n < leastParcel && addresses < ParcelSize {
			n = addresses
		}
		sizes = append(sizes, n)
		addresses -= n
		if len(sizes)%2 == 0 {
			size = min(2*size, ParcelSize)
		}
	}
	return sizes
}

// Portion is the most addresses that a lane takes of its next parcel, where so many
// may be asked now, that parcel's among them: an equal part of what is left, so
// that all lanes have something to do until the end (guided self-scheduling), but
// not so few that they are not worth a session. perSecond is how many one lane
// gets through, 0: not known.
func Portion(ready int64, lanes int, perSecond float64) int {
	speed := Load{PerSecond: perSecond}.Speed()
	part := math.Ceil(float64(ready) / float64(max(1, lanes)))
	return int(min(ParcelSize, max(leastParcel, speed*leastTurn.Seconds(), part)))
}

// Employed is how many of the lanes have something to do with so many parcels of so
// many addresses together.
func Employed(parcels int, addresses int64, lanes int, perSecond float64) int {
	least := int64(Portion(0, lanes, perSecond))
	return min(lanes, max(parcels, int((addresses+least-1)/least)))
}

// SharedKey is the lane key of a small operator: always the same one, so that
// it never sees two sessions at a time.
func SharedKey(operator string) string {
	h := fnv.New32a()
	_, _ = h.Write([]byte(operator))
	return SharedLane(int(h.Sum32() % SharedLanes))
}

// Unresolved is the lane key of addresses whose domain DNS failed for: they wait for a
// later round like those that a host put off.
const Unresolved = "?"

// patientMark ends the key of a lane on which hosts of an operator are waited for.
const patientMark = "!"

// PatientKey is the key of the lane on which the silent hosts of a lane key are asked
// again: waiting for them holds up nobody else.
func PatientKey(key string) string { return PlainKey(key) + patientMark }

// PlainKey is the lane key that a patient one belongs to, or the key itself.
func PlainKey(key string) string { return strings.TrimSuffix(key, patientMark) }

// IsPatient tells the key of a lane on which silent hosts are waited for.
func IsPatient(key string) bool { return strings.HasSuffix(key, patientMark) }

// IsShared tells the key of a lane that small operators share.
func IsShared(key string) bool { return strings.HasPrefix(key, "~") }

// locationMark stands between the key of a lane that small operators share and the location of the
// workers by whose direct route they are asked.
const locationMark = "@"

// KeyAt is a shared lane key of the operators that are asked by the workers of a location; "": of the
// service's.
func KeyAt(key, location string) string {
	if location == "" {
		return key
	}
	return key + locationMark + location
}

// LocationOf is the location of a shared lane key, whether patient or not.
func LocationOf(key string) string {
	_, location, _ := strings.Cut(PlainKey(key), locationMark)
	return location
}

// SharedLane is the key of one of the lanes that small operators share.
func SharedLane(i int) string { return fmt.Sprintf("~%02d", i) }

// UrgentTurn is the first turn of an urgent run: before all of others. Hosts are asked no faster
// for it.
const UrgentTurn = -1 << 20

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
