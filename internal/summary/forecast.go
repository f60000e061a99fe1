package summary

import (
	"time"

	"varnet/core/pace"
)

// Left is what is left of a run: how long it is expected to take, and what is
// waited for at whom.
type Left struct {
	pace.Forecast
	Awaited []Awaited
	// PlanFails is since when planning the run has been failing, through no fault of the hosts; nil: it has not.
	PlanFails *time.Time
}

// Awaited is what is waited for at an operator; "" stands for all the small ones
// that share lanes.
type Awaited struct {
	Operator                 string
	Ready, InHand, Postponed int64
	// Until is when the operator, or the first that was put off, is asked again.
	Until *time.Time
	// Rests tells that the operator is left alone until then, having complained.
	Rests bool
	// Unresolved stands for addresses whose domain DNS failed for.
	Unresolved bool
	// Fails is since when asking has been failing, through no fault of the host; nil: it has not.
	Fails *time.Time
	// Lanes are how many sessions it gets, PerSecond what one got through.
	Lanes     int
	PerSecond float64
}

// Draft is what a run will take.
type Draft struct {
	pace.Forecast
	// Reused results come from earlier runs; Hopeless addresses are at domains that the
	// DNS rules out; Ask are left for the mail hosts.
	Reused, Hopeless, Ask int64
	// Operators that were found out for LookedUp addresses.
	Operators int
	LookedUp  int64
}
