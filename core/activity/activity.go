// Package activity tells how long ago something was seen of an address: that its owner opened or
// clicked a message, signed in, ordered, complained. What was never seen is never seen; nothing is
// guessed.
package activity

import "time"

// Seen is what was seen of an address last.
type Seen struct {
	At   time.Time
	Kind string // what was seen, such as "opened"
	From string // the file or list that says so
}

// Step is how long ago that was.
type Step string

// The steps.
const (
	Within30  Step = "30"
	Within60  Step = "60"
	Within90  Step = "90"
	Within180 Step = "180"
	Within365 Step = "365"
	Longer    Step = "longer"
	Never     Step = "never"
)

// bounds are the days of the steps, in their order.
var bounds = []struct {
	Step
	days int
	says string
}{
	{Within30, 30, "30 days ago or less"}, {Within60, 60, "31 to 60 days ago"}, {Within90, 90, "61 to 90 days ago"}, {Within180, 180, "91 to 180 days ago"}, {Within365, 365, "181 to 365 days ago"},
}

// Steps lists them, the latest first.
func Steps() (out []Step) {
	for _, b := range bounds {
		out = append(out, b.Step)
	}
	return append(out, Longer, Never)
}

// Says is a step in words.
func (s Step) Says() string {
	for _, b := range bounds {
		if b.Step == s {
			return b.says
		}
	}
	if s == Longer {
		return "longer than 365 days ago"
	}
	return "never seen"
}

// Days is how many days ago something was seen, of 24 hours each; -1: never.
func (s Seen) Days(now time.Time) int {
	if s.At.IsZero() {
		return -1
	}
	return int(max(0, now.Sub(s.At)) / (24 * time.Hour))
}

// Step is the step that it falls in.
func (s Seen) Step(now time.Time) Step {
	days := s.Days(now)
	if days < 0 {
		return Never
	}
	for _, b := range bounds {
		if days <= b.days {
			return b.Step
		}
	}
	return Longer
}

// Later returns the later of two; the earlier given one of those at the same time.
func (s Seen) Later(other Seen) Seen {
	if other.At.After(s.At) {
		return other
	}
	return s
}
