package pace

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"time"
)

// Load is what is to be asked of one operator, or of the small ones that share
// a lane.
type Load struct {
	Key       string
	Addresses int64
	// Lanes are those it has now, Cap the most that it may get.
	Lanes, Cap int
	// PerSecond is how many addresses one lane got through lately; 0: not known.
	PerSecond float64
	// Rest is how long it is not asked at all yet.
	Rest time.Duration
}

// TypicalSpeed is how many addresses a second one lane gets through at an
// operator that nothing is known about, give or take a factor of three.
const TypicalSpeed = 20

// Speed is PerSecond, or what is typical.
func (l Load) Speed() float64 {
	if l.PerSecond > 0 {
		return l.PerSecond
	}
	return TypicalSpeed
}

// Takes is how long the load is expected to take: lanes are added one by one up
// to the cap, after a first parcel each.
func (l Load) Takes() time.Duration {
	lanes, left, seconds := max(1, l.Lanes), float64(l.Addresses), 0.0
	for step := float64(firstParcel); lanes < l.Cap && left > step; lanes++ {
		seconds += step / float64(lanes) / l.Speed()
		left -= step
	}
	seconds += left / float64(lanes) / l.Speed()
	return l.Rest + time.Duration(seconds*float64(time.Second))
}

// Forecast is how long asking is expected to take: in 8 of 10 cases between Low
// and High.
type Forecast struct {
	Low, Likely, High time.Duration
	// Slowest is the load that is expected to take longest.
	Slowest Load
}

const (
	forecastDraws = 200
	// forecastLoads is how many of the longest loads are looked at one by one.
	forecastLoads = 400
	// The spread of a speed that was seen, and of one that is only typical: the
	// standard deviation of its logarithm.
	seenSpread, typicalSpread = 0.15, 0.7
)

// Expect forecasts how long loads take when so many lanes can be worked at once
// over all workers: as long as the longest, or as long as all of them keep the
// lanes busy. The same loads give the same forecast.
func Expect(loads []Load, lanes int) Forecast {
	if len(loads) == 0 {
		return Forecast{}
	}
	longest := slices.SortedFunc(slices.Values(loads), func(a, b Load) int { return cmp.Compare(b.Takes(), a.Takes()) })
	f := Forecast{Slowest: longest[0]}
	var rest float64 // lane-seconds of those that are not looked at one by one
	if len(longest) > forecastLoads {
		for _, l := range longest[forecastLoads:] {
			rest += float64(l.Addresses) / l.Speed()
		}
		longest = longest[:forecastLoads]
	}
	rng := rand.New(rand.NewPCG(1, 2))
	took := make([]time.Duration, forecastDraws)
	for i := range took {
		took[i] = draw(rng, longest, rest, lanes)
	}
	slices.Sort(took)
	f.Low, f.Likely, f.High = took[forecastDraws/10], took[forecastDraws/2], took[forecastDraws*9/10]
	return f
}

// draw plays one possible course.
func draw(rng *rand.Rand, loads []Load, rest float64, lanes int) (end time.Duration) {
	busy := rest
	for _, l := range loads {
		spread := seenSpread
		if l.PerSecond == 0 {
			spread = typicalSpread
		}
		slower := math.Exp(spread * rng.NormFloat64())
		busy += slower * float64(l.Addresses) / l.Speed()
		end = max(end, l.Rest+time.Duration(slower*float64(l.Takes()-l.Rest)))
	}
	return max(end, time.Duration(busy/float64(max(1, lanes))*float64(time.Second)))
}
