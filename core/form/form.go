// Package form decides what a public form is told about an address that a visitor types: enough
// to mend a typing error, and nothing about who has a mailbox where.
package form

import (
	"time"

	"varnet/core/finding"
)

// Answer is what a form is told.
type Answer string

// The answers.
const (
	Usable      Answer = "usable"       // nothing speaks against it
	TypingError Answer = "typing-error" // another domain was probably meant
	NotUsable   Answer = "not-usable"   // mail to it cannot arrive
	NotKnown    Answer = "not-known"    // nothing was learnt yet; the next look may tell more
)

// Of returns the answer for a verdict. suggested: another domain was probably meant. Of a mailbox
// at a host that takes mail for any, and of one that is undecided, nothing is told that was learnt
// otherwise, such as from messages that came back: the answer is the same for all of its domain.
func Of(v finding.Verdict, suggested bool) Answer {
	switch {
	case suggested:
		return TypingError
	case v.Cause == finding.MailboxBounced:
		return NotKnown
	case v.Finding == finding.Deliverable || v.Finding == finding.CatchAll:
		return Usable
	case v.Finding == finding.Undeliverable:
		return NotUsable
	}
	return NotKnown
}

// Kept is for how long an answer holds: what was not learnt is worth another look soon.
func (a Answer) Kept() time.Duration {
	if a == NotKnown {
		return 5 * time.Minute
	}
	return 24 * time.Hour
}

// What a visitor may ask a day without being slowed down, in different addresses; how long the
// first answer after that takes, each further one twice as long; the longest; and from how many on
// it is told that somebody asks about many.
const (
	freeAddresses = 5
	firstWait     = 250 * time.Millisecond
	longestWait   = 8 * time.Second
	ManyAddresses = 15
)

// Wait returns by how much the answer to a visitor is put off who asked about so many different
// addresses today.
func Wait(different int) time.Duration {
	if different <= freeAddresses {
		return 0
	}
	wait := firstWait
	for n := different - freeAddresses; n > 1 && wait < longestWait; n-- {
		wait *= 2
	}
	return min(wait, longestWait)
}

// Domain counts what was asked about the mailboxes of one domain within an hour, by all visitors of
// a form.
type Domain struct{ Asked, Absent int }

// Enumerated reports whether somebody tries the names of a domain: many do not exist, and most of
// those asked about. Visitors mistype a few of many.
func (d Domain) Enumerated() bool { return d.Absent >= 20 && 2*d.Absent > d.Asked }
