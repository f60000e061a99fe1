// Package pace decides how fast an operator may be asked: on how many lanes
// at a time, and when to come back. It is a plain function from what was
// learnt so far and what the last parcel met to what to do next; it holds no
// clock, no lock and no connection.
package pace

import (
	"math/rand/v2"
	"strings"
	"time"
)

// Pace is what is known about the manners of one operator.
type Pace struct {
	// Lanes is how many sessions may be open at once, 1 to the cap.
	Lanes int
	// Calm counts parcels in a row without a complaint.
	Calm int
	// Complaints counts complaints in a row: each doubles the rest.
	Complaints int
	// RestUntil is when the operator may be asked again.
	RestUntil time.Time
	// Ceiling is the most lanes it was asked on without a complaint, and gets
	// until CeilingUntil; 0: it has not complained of several.
	Ceiling      int
	CeilingUntil time.Time
	// Questions is how many questions of a session it bore before it complained, and
	// gets until CeilingUntil; 0: it has not complained of them.
	Questions int
	// Proven counts the questions answered since the last complaint, at most
	// MostProven: the more, the more may be on their way at once.
	Proven int
	// Takes tells that it has taken mail for a listed mailbox.
	Takes bool
	// Longest is how many questions of a session it has answered without a complaint, the most: up to there many
	// may be on their way at once, beyond it few.
	Longest int
}

// MostProven is up to how many answers without a complaint are counted.
const MostProven = 500

// Bounds are how far an operator's pace may go.
type Bounds struct {
	// Cap is the most lanes it gets, by each route.
	Cap int
	// Rest is how long it rests after each parcel, whatever it said.
	Rest time.Duration
}

// DefaultCap is the most lanes an operator gets unless somebody says otherwise:
// polite for hosts that allow 10 connections from one source, as many do.
const DefaultCap = 4

const (
	// firstRest is how long an operator rests after a first complaint, and
	// fewerRest is how long if it was asked on several lanes: having fewer is the
	// cure then.
	firstRest = 20 * time.Second
	fewerRest = 2 * time.Second
	longRest  = 15 * time.Minute
	// calmParcels in a row without a complaint earn one more lane; below what an
	// operator is known to bear, or when it never complained, one is enough: so
	// its lanes double while each brings a parcel in.
	calmParcels = 2
	// ceilingHolds is for how long a number of lanes that brought a complaint is
	// not tried again.
	ceilingHolds = 30 * time.Minute
	// leastQuestions is how few questions of a session are worth opening it: a host that
	// bears fewer counts them over sessions, and only rest is a cure.
	leastQuestions = 5
)

// BetweenSessions is how long a host that counts questions is left alone between two
// sessions.
const BetweenSessions = 2 * time.Second

// Start is the pace for an operator that nothing is known about: mail hosts
// expect several connections of who has several messages, and most mail servers
// begin with more than these.
func Start() Pace { return Pace{Lanes: 3} }

// Seen is what a parcel met at the operator.
type Seen struct {
	Sessions  int // sessions that came as far as a question
	Throttled int // complaints that we ask too much or too fast
	// Bore is how many questions of a session a host answered before it complained at
	// one; 0: it did not, or at the first.
	Bore int
	// Longest is how many questions of a session it answered without a complaint, the most.
	Longest int
	// AtRecipient tells that a complaint came at a recipient, and not at a session.
	AtRecipient bool
	// Hint is how long the host asked us to stay away, the longest; zero: it
	// did not say.
	Hint    time.Duration
	Failed  int // sessions that did not come about or broke
	Asked   int // mailboxes asked about, and those not asked for a refusal of us
	Blocked int // of those, by how many we ourselves were refused
	// Answered counts the addresses that a host answered about; made-up mailboxes
	// are none.
	Answered int
	// Took tells that it took mail for a listed mailbox.
	Took bool
	// Words is a refusal of us, as the host said it.
	Words string
	// NoWay counts connections that failed at the route and not at a host.
	NoWay int
	// NoWaySays is why.
	NoWaySays string
}

// Add takes over what was met elsewhere at the operator.
func (s *Seen) Add(o Seen) {
	s.Sessions += o.Sessions
	s.Throttled += o.Throttled
	s.Hint = max(s.Hint, o.Hint)
	s.Bore = max(s.Bore, o.Bore)
	s.Longest = max(s.Longest, o.Longest)
	s.Failed += o.Failed
	s.Asked += o.Asked
	s.Answered += o.Answered
	s.Blocked += o.Blocked
	s.NoWay += o.NoWay
	s.Took = s.Took || o.Took
	s.AtRecipient = s.AtRecipient || o.AtRecipient
	if o.Words != "" {
		s.Words = o.Words
	}
	if o.NoWaySays != "" {
		s.NoWaySays = o.NoWaySays
	}
}

// Refused tells that the operator's hosts refuse us by this route, rather than
// this or that mailbox.
func (s Seen) Refused() bool { return s.Blocked > 0 && s.Blocked*2 > s.Asked }

// After returns the pace after a parcel: more lanes after calm, half the lanes and
// a rest after a complaint (slow start, additive increase, multiplicative
// decrease). Lanes that were open when it complained first say the same a moment
// later: that counts once. Hosts that cannot be reached get no more lanes, but
// no rest either: the rounds see to that.
func (p Pace) After(s Seen, now time.Time, b Bounds) Pace {
	p.Lanes = min(p.Lanes, b.Cap)
	p.Takes = p.Takes || s.Took
	p.Proven, p.Longest = min(p.Proven+s.Answered, MostProven), max(p.Longest, s.Longest)
	if s.Throttled > 0 {
		p.Proven = 0
	}
	if s.AtRecipient {
		p.Longest = min(p.Longest, s.Bore)
	}
	switch {
	case s.Throttled > 0 && p.Resting(now):
		p.RestUntil = latest(p.RestUntil, now.Add(s.Hint))
	case s.Throttled > 0:
		p = p.complained(s, now)
	case s.Failed > 0 || s.Sessions == 0:
		p.Calm = 0
	default:
		p = p.calmed(now, b)
	}
	if b.Rest > 0 {
		p.RestUntil = latest(p.RestUntil, now.Add(b.Rest))
	}
	if p.PerSession(now) > 0 {
		p.RestUntil = latest(p.RestUntil, now.Add(BetweenSessions))
	}
	return p
}

func (p Pace) complained(s Seen, now time.Time) Pace {
	first := firstRest
	if p.Lanes > 1 && !s.AtRecipient {
		first = fewerRest
	}
	rest := min(first<<min(p.Complaints, 10), longRest)
	if s.Hint > 0 {
		rest = s.Hint
	}
	p.RestUntil = now.Add(rest + rand.N(rest/4+1))
	p.CeilingUntil = now.Add(ceilingHolds)
	if s.Bore >= leastQuestions {
		p.Questions = s.Bore // of several lanes none need be fewer
	} else if p.Lanes > 1 {
		p.Ceiling = p.Lanes - 1
	}
	p.Lanes = max(1, p.Lanes/2)
	p.Complaints++
	p.Calm = 0
	return p
}

func (p Pace) calmed(now time.Time, b Bounds) Pace {
	p.Complaints = 0
	need, top := calmParcels, b.Cap
	if p.Ceiling == 0 || p.Lanes < p.Ceiling {
		need = 1
	}
	if now.Before(p.CeilingUntil) && p.Ceiling > 0 {
		top = min(top, p.Ceiling)
	}
	if p.Calm = min(p.Calm+1, need); p.Calm == need && p.Lanes < top {
		p.Lanes++
		p.Calm = 0
	}
	return p
}

func latest(a, b time.Time) time.Time {
	if a.Before(b) {
		return b
	}
	return a
}

// PerSession is how many questions a session may have now, 0: as many as usual.
func (p Pace) PerSession(now time.Time) int {
	if now.Before(p.CeilingUntil) {
		return p.Questions
	}
	return 0
}

// Resting reports whether the operator is to be left alone at this moment.
func (p Pace) Resting(now time.Time) bool { return now.Before(p.RestUntil) }

// Rounds are the waits before postponed addresses are asked again: the first
// wait after round 1, and so on. When they are used up, an address stays as it
// is. Greylisting hosts let a sender in after 1 to 15 minutes (RFC 6647
// section 5), some after an hour.
type Rounds []time.Duration

// DefaultRounds fit greylisting as it is found in practice.
func DefaultRounds() Rounds {
	return Rounds{5 * time.Minute, 15 * time.Minute, 45 * time.Minute, 2 * time.Hour}
}

// String lists the waits as they are set, such as 5m,15m.
func (r Rounds) String() string {
	var out []string
	for _, d := range r {
		text := d.String()
		for _, zero := range []string{"0s", "0m"} { // 2h0m0s is said as 2h
			if cut := strings.TrimSuffix(text, zero); cut != text && strings.ContainsAny(cut[len(cut)-1:], "hm") {
				text = cut
			}
		}
		out = append(out, text)
	}
	return strings.Join(out, ",")
}

// Return returns when to ask again after that many rounds, or after as long as the
// host asked us to stay away; ok is false when the rounds are used up. The wait
// is drawn out at random by up to a fifth, so that not everything comes back at
// the same moment.
func (r Rounds) Return(rounds int, hint time.Duration, now time.Time) (at time.Time, ok bool) {
	if rounds < 1 || rounds > len(r) {
		return time.Time{}, false
	}
	wait := r[rounds-1]
	if hint > 0 {
		wait = hint
	}
	return now.Add(wait + rand.N(wait/5+1)), true
}
