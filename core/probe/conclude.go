package probe

import (
	"slices"
	"time"

	"varnet/core/finding"
	"varnet/core/reply"
)

// conclude turns the answers into results, domain by domain.
func (v *visit) conclude(now time.Time) {
	questions := 0
	for _, s := range v.sites {
		questions += len(s.items)
	}
	v.out.Results = make([]Result, 0, questions) // almost all of them
	for _, s := range v.sites {
		known := map[string]Acceptance{}
		for _, host := range s.hosts() {
			a, ok := s.acceptance(host, v.way.Route, now)
			v.remember(s, a, ok)
			known[host] = a
		}
		for _, it := range s.items {
			if it.state == answered && it.meaning.Cause == finding.MailboxAbsent && v.broken(s, it) {
				it.meaning, it.asked.Why = brokenHost, brokenHost.Why
			}
			v.settle(it, known[it.exchanger])
		}
	}
}

// remember hands on what is known of the site at an exchanger now. What was known before
// stands where no made-up mailbox was answered about: that counts for later visits, though
// not for the answers of this one.
func (v *visit) remember(s *site, a Acceptance, asked bool) {
	before := s.known(a.Exchanger)
	n := s.tally(a.Exchanger).plus(before)
	if !asked && before.good(a.At) {
		a = *before
	}
	a.TookNone, a.ListedTaken, a.ListedRefused = s.tookNone(a.Exchanger), n.taken, n.refused
	if asked || before != nil || a.TookNone > 0 {
		v.out.Acceptances = append(v.out.Acceptances, a)
	}
}

var brokenHost = reply.Meaning{About: reply.Moment, Effect: reply.Unclear, Cause: finding.MailboxUnclear,
	Why: "The host refused every mailbox it was asked about, its postmaster too, in the same words: it is broken, or its refusals are about us."}

// tookNone counts the listed mailboxes that an exchanger refused, now and before, while
// it took none.
func (s *site) tookNone(exchanger string) int {
	n := s.tally(exchanger)
	if n.taken > 0 {
		return 0
	}
	if before := s.known(exchanger); before != nil {
		n.refused += before.TookNone
	}
	return n.refused
}

// broken reports a host that refused postmasters as it refused every other mailbox, and
// more of them than people may be gone. A domain need not have a postmaster, so one whose
// operator takes others, or that refused few, is believed.
func (v *visit) broken(s *site, it *item) bool {
	if s.Takes {
		return false
	}
	refused := 0
	var postmaster *item
	for _, other := range v.sites {
		if other.tally(it.exchanger).taken > 0 {
			return false
		}
		refused += other.tookNone(it.exchanger)
		if p := other.postmaster; p != nil && p.state == answered && p.exchanger == it.exchanger {
			if p.meaning.Effect == reply.Accepted {
				return false
			}
			if postmaster == nil || other == s {
				postmaster = p
			}
		}
	}
	return refused > fewRefused && postmaster != nil && v.sameWords(it, postmaster)
}

// settle puts one question where it belongs.
func (v *visit) settle(it *item, a Acceptance) {
	r := Result{Question: *it.q, Domain: it.site.Name}
	t := r.Traits
	if it.state == waiting {
		r.Verdict = finding.Conclude(finding.Undecided, finding.ExchangerUnavailable, t)
		v.out.Unasked = append(v.out.Unasked, r)
		return
	}
	if it.state == answered {
		v.seen.Answered++
	}
	var again bool
	r.Verdict, again = it.verdict(a, t)
	if it.state == answered && it.backup {
		again = true
		r.BestCause = v.whyNotBest()
		it.asked.Why += " This is the answer of a backup exchanger; it stands only if no better exchanger answers in later rounds."
	}
	if it.contrast {
		it.asked.Why = "In the same session the host accepted other mailboxes of the domain and refused made-up ones in these words, so they mean that the mailbox does not exist."
	}
	r.Asked = append(slices.Clone(r.Asked), it.asked)
	if again {
		r.Rounds++
		r.Hint = reply.Hint(it.reply)
		v.out.Postponed = append(v.out.Postponed, r)
		return
	}
	v.out.Results = append(v.out.Results, r)
}

// whyNotBest is the cause for which the best exchanger was not asked.
func (v *visit) whyNotBest() finding.Cause {
	if v.bestFailure != nil {
		if m, ok := v.failureMeaning(v.bestFailure); ok {
			return m.Cause
		}
	}
	return finding.ExchangerUnavailable
}

// verdict concludes from the answer and what the exchanger does with made-up
// mailboxes; again reports that another round may bring more.
func (it *item) verdict(a Acceptance, t finding.Traits) (v finding.Verdict, again bool) {
	switch {
	case it.state == untaken:
		return finding.ConcludeFrom(finding.ExchangerNoUTF8, t), false
	case it.state == answered && it.meaning.Effect == reply.Accepted:
		return it.accepted(a, t)
	case it.contrast && a.Accepts == AcceptsKnown, it.softNo() && it.q.Rounds > 0 && it.softlyAbsent(a):
		return finding.ConcludeFrom(finding.MailboxAbsent, t), false
	}
	cause := it.meaning.Cause
	if cause == finding.MailboxAbsent && a.Accepts == AcceptsMixed {
		cause = finding.MailboxUnclear // its no proves as little as its yes
	}
	v = finding.ConcludeFrom(cause, t)
	return v, v.Finding == finding.Undecided && it.meaning.Cause == cause && it.meaning.Effect != reply.Unclear
}

// accepted weighs a yes against what the exchanger does with made-up mailboxes.
func (it *item) accepted(a Acceptance, t finding.Traits) (v finding.Verdict, again bool) {
	if finding.Revived(it.q.Absent, it.asked.At) {
		t = t.With(finding.TraitTrapRevived)
	}
	switch a.Accepts {
	case AcceptsKnown:
		return finding.ConcludeFrom(finding.MailboxAccepted, t), false
	case AcceptsAny:
		return finding.ConcludeFrom(finding.MailboxAnyAccepted, t), false
	case AcceptsMixed:
		return finding.ConcludeFrom(finding.MailboxUnclear, t), false
	}
	return finding.ConcludeFrom(it.site.madeUpCause(), t), true
}

// madeUpCause is why nothing was learnt from the made-up mailboxes.
func (s *site) madeUpCause() finding.Cause {
	for _, it := range s.madeUp {
		info, _ := finding.Lookup(it.meaning.Cause)
		if len(info.Findings) == 1 && info.Findings[0] == finding.Undecided {
			return it.meaning.Cause
		}
	}
	return finding.MailboxUnclear
}

// softlyAbsent reports a 4xx in the very words that made-up mailboxes get round after
// round from a host that takes others: it means that the mailbox does not exist.
func (it *item) softlyAbsent(a Acceptance) bool {
	if a.Accepts != AcceptsKnown {
		return false
	}
	if it.site.tally(it.exchanger).taken == 0 && !it.site.Takes {
		return false
	}
	for _, other := range it.site.madeUp {
		if other.exchanger == it.exchanger && other.state == answered && other.softNo() && other.reply.Code == it.reply.Code && other.reply.Enhanced == it.reply.Enhanced {
			return true
		}
	}
	return false
}
