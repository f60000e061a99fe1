package bounce

import (
	"time"

	"varnet/core/finding"
)

// Outcome is what became of a message that was really sent to an address.
type Outcome string

// The outcomes.
const (
	// Bounced: the message came back, and nobody tries any more.
	Bounced Outcome = "bounced"
	// Late: a host still tried when it was last heard of.
	Late Outcome = "delayed"
	// Complained: the person reported the message as unwanted.
	Complained Outcome = "complained"
	// Unsubscribed: the person asked for no more messages (RFC 8058).
	Unsubscribed Outcome = "unsubscribed"
	// NoBounce: nothing came back within the watch.
	NoBounce Outcome = "no bounce"
)

// Watch is for how long bounces of a mailing are waited for, unless it says otherwise: a host
// tries for up to five days (RFC 5321 section 4.5.4.1), and most give up sooner.
const Watch = 72 * time.Hour

// SettledFor is for how long silence after a message is believed of later results.
const SettledFor = 180 * 24 * time.Hour

// Of returns the outcome that a notice means for one recipient; ok is false where it means
// none, as the report of a delivery does.
func Of(n Notice, r Recipient) (o Outcome, ok bool) {
	switch {
	case n.Kind == Complaint:
		return Complained, true
	case n.Kind != Bounce && n.Kind != Delay:
		return "", false
	case r.Action == Failed:
		return Bounced, true
	case r.Action == Delayed:
		return Late, true
	}
	return "", false
}

// Known is what is known of an address by the messages that were sent to it.
type Known struct {
	Outcome Outcome
	// Permanent: of a bounce, that the reason lies with the mailbox or its domain and lasts.
	Permanent bool
	At        time.Time
}

// Outweighs reports whether what is known now goes before what was known of the same
// address. A complaint stays, and so does the wish for no more messages, unless a complaint
// follows. Of the others the later goes before the earlier; but a bounce that passes, or a
// delay, takes nothing away.
func (k Known) Outweighs(before Known) bool {
	switch {
	case before.Outcome == "" || k.Outcome == Complained:
		return true
	case before.Outcome == Complained:
		return false
	case k.Outcome == Unsubscribed || before.Outcome == Unsubscribed:
		return k.Outcome == Unsubscribed
	case k.lasts():
		return !before.lasts() || !k.At.Before(before.At)
	}
	return !before.lasts() && !k.At.Before(before.At)
}

// lasts reports whether it says something of the mailbox that stays true.
func (k Known) lasts() bool { return k.Outcome == Bounced && k.Permanent || k.Outcome == NoBounce }

// Arrived reports whether the mailbox took the message; sure is false for an outcome that says neither
// that it did nor that it is not there.
func (k Known) Arrived() (yes, sure bool) {
	switch k.Outcome {
	case Bounced:
		return false, k.Permanent
	case NoBounce, Complained, Unsubscribed:
		return true, true
	}
	return false, false
}

// Verdict returns the verdict of an address by what is known of it, given what a run found;
// the zero verdict stands for nothing found yet. changed is false where it makes no
// difference.
func (k Known) Verdict(found finding.Verdict, now time.Time) (v finding.Verdict, changed bool) {
	switch {
	case k.Outcome == Bounced && k.Permanent && found.Cause != finding.MailboxBounced:
		return finding.ConcludeFrom(finding.MailboxBounced, found.Traits), true
	case k.Outcome == Complained && found.Cause != "" && !found.Traits.Has(finding.TraitComplained):
		return finding.Conclude(found.Finding, found.Cause, found.Traits.With(finding.TraitComplained)), true
	case k.Outcome == Unsubscribed && found.Cause != "" && !found.Traits.Has(finding.TraitUnsubscribed):
		return finding.Conclude(found.Finding, found.Cause, found.Traits.With(finding.TraitUnsubscribed)), true
	case k.Outcome == NoBounce && found.Finding == finding.CatchAll && found.Cause != finding.MailboxSettled && now.Sub(k.At) < SettledFor:
		return finding.ConcludeFrom(finding.MailboxSettled, found.Traits), true
	}
	return found, false
}
