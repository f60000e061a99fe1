package probe

import (
	"slices"

	"varnet/core/finding"
	"varnet/core/reply"
	"varnet/core/smtp"
)

var silence = reply.Meaning{About: reply.Moment, Effect: reply.Postponed, Cause: finding.ExchangerSilent,
	Why: "The host took the connection and did not answer in time."}

var troubles = map[smtp.Trouble]reply.Meaning{
	smtp.Unreachable: {About: reply.Moment, Effect: reply.Postponed, Cause: finding.ExchangerUnreachable,
		Why: "No connection could be made."},
	smtp.Silent: silence,
	smtp.Dropped: {About: reply.Moment, Effect: reply.Postponed, Cause: finding.ExchangerDroppedUs,
		Why: "The host closed the connection before it answered."},
	smtp.Garbled: {About: reply.Moment, Effect: reply.Postponed, Cause: finding.ExchangerGarbled,
		Why: "What the host sent is not a reply of the protocol."},
	smtp.OutOfStep: {About: reply.Moment, Effect: reply.Postponed, Cause: finding.ExchangerGarbled,
		Why: "The host sent more replies than it was asked for, so none can be told from another."},
	smtp.NoTLS: {About: reply.Us, Effect: reply.Refused, Cause: finding.ExchangerNeedsTLS,
		Why: "The host requires encryption, and none could be set up."},
}

// failureMeaning returns what a failed session means for the mailboxes it left
// unanswered; ok is false when only our own time was up, our own route failed or our
// own sessions were too many, which means nothing.
func (v *visit) failureMeaning(f *smtp.Failure) (m reply.Meaning, ok bool) {
	if f.Trouble == smtp.Refused {
		return reply.ReadSession(f.Reply, v.question("")), true
	}
	m, ok = troubles[f.Trouble]
	return m, ok
}

// question is what a host is asked about a mailbox, and by whom; "": before any was named.
func (v *visit) question(mailbox string) reply.Question {
	return reply.Question{Mailbox: mailbox, Helo: v.way.Identity.Name, Sender: v.way.Identity.Sender}
}

// byTelling orders troubles by how much they tell: a host that spoke tells more
// than one that could not be reached.
var byTelling = []smtp.Trouble{smtp.OutOfTime, smtp.NoRoute, smtp.Unreachable, smtp.Crowded, smtp.Silent, smtp.Dropped, smtp.Garbled, smtp.OutOfStep, smtp.NoTLS, smtp.Refused}

func telling(f *smtp.Failure) int { return slices.Index(byTelling, f.Trouble) }

// patience is how many more rounds an address gets for a cause that time
// seldom mends; every other cause gets all the rounds there are.
var patience = map[finding.Cause]int{
	finding.ExchangerUnreachable: 1,
	finding.ExchangerSilent:      2, // short, longer, as long as the RFC has it
	finding.ExchangerDroppedUs:   1,
	finding.ExchangerGarbled:     1,
	finding.ExchangerNeedsTLS:    1,
	finding.ExchangerBlocksUs:    1,
}

// WantsPatience reports whether the host was silent, so that it is to be waited for longer
// the next time.
func (r Result) WantsPatience() bool { return r.Verdict.Cause == finding.ExchangerSilent }

// Patient reports whether a postponed result is worth one more round: for what a
// backup exchanger said, as long as the best one may still come back.
func (r Result) Patient() bool {
	cause := r.Verdict.Cause
	if r.BestCause != "" {
		cause = r.BestCause
	}
	most, bounded := patience[cause]
	return !bounded || r.Rounds <= most
}
