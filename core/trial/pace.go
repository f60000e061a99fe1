package trial

import (
	"time"

	"varnet/core/finding"
)

// The pace of trial letters: those of a person who writes to people they know.
const (
	// Daily is how many letters leave a workspace within 24 hours, unless it says otherwise.
	Daily = 500
	// Between is the least time between two letters to one operator, unless the installation
	// says otherwise; the operator's own rest, where that is longer, goes before.
	Between = 20 * time.Second
)

// LeftOut is why an address gets no trial letter; "" where it gets one.
type LeftOut string

// The reasons.
const (
	Gets        LeftOut = ""
	NoCatchAll  LeftOut = "not catch-all" // there is nothing to settle
	Settled     LeftOut = "settled"       // it is already
	Struck      LeftOut = "struck"        // it complained, unsubscribed or is dropped by hand
	Harmful     LeftOut = "harmful"       // a trap, a disposable address, one that nobody reads
	Ruled       LeftOut = "by rule"       // a rule of outbound keeps Varnet from contacting its host
	SentBefore  LeftOut = "sent before"   // it had its trial letter: each address gets one, ever
	BouncedOnce LeftOut = "bounced"       // a message to it came back for good
)

// For returns whether an address gets a trial letter, by what a run found of it. dropped is
// what a person decided about it.
func For(v finding.Verdict, dropped bool) LeftOut {
	switch {
	case v.Cause == finding.MailboxBounced:
		return BouncedOnce
	case v.Cause == finding.MailboxSettled:
		return Settled
	case v.Finding != finding.CatchAll:
		return NoCatchAll
	case dropped || v.Traits.Has(finding.TraitComplained) || v.Traits.Has(finding.TraitUnsubscribed):
		return Struck
	case len(v.Traits.Harmful()) > 0:
		return Harmful
	}
	return Gets
}

// Load is the letters for one operator, and the time between two of them.
type Load struct {
	Letters int
	Rest    time.Duration
}

// Takes returns how long letters take to leave, if so many may leave within 24 hours and sent
// of them left in the last: the longer of what the daily limit and what the slowest operator
// allows.
func Takes(loads []Load, daily, sent int) time.Duration {
	letters, slowest := 0, time.Duration(0)
	for _, l := range loads {
		letters += l.Letters
		if l.Letters > 0 {
			slowest = max(slowest, time.Duration(l.Letters-1)*l.Rest)
		}
	}
	if letters == 0 {
		return 0
	}
	later := max(letters-max(daily-sent, 0), 0) // those that do not leave today
	days := (later + daily - 1) / daily
	return max(time.Duration(days)*24*time.Hour, slowest)
}
