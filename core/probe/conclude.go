package probe

import (
	"time"

	"varnet/core/finding"
	"varnet/core/reply"
	"varnet/core/smtp"
)

// conclude turns the answers into results, domain by domain.
func (v *visit) conclude(now time.Time) {
	for _, s := range v.sites {
		m := s.manner(now)
		broken := s.refusesEverybody()
		for _, it := range s.items {
			known := m
			if it.state == answered && m.Exchanger != "" && m.Exchanger != it.exchanger {
				// Another exchanger of the domain answered than the one that
				// the manner is known of: ask about made-up ones anew.
				known.Accepts = AcceptsOpen
				m.Accepts, m.Reused = AcceptsOpen, false
			}
			if broken {
				it.meaning = brokenHost
			}
			v.settle(it, known)
		}
		v.out.Manners[s.Name] = m
	}
}

var brokenHost = reply.Meaning{About: reply.Moment, Effect: reply.Unclear, Cause: finding.MailboxUnclear,
	Why: "The host refused every mailbox it was asked about, its postmaster too, in the same words: it is broken, or meant somebody else."}

// refusesEverybody tells a host that refused the postmaster as it refused every
// other mailbox of the domain.
func (s *site) refusesEverybody() bool {
	p := s.postmaster
	if p == nil || p.countIf(reply.Refused) == 0 && p.countIf(reply.Unclear) == 0 {
		return false
	}
	for _, it := range s.items {
		if it.reply.Code != p.reply.Code || it.reply.Enhanced != p.reply.Enhanced || it.meaning.Cause != p.meaning.Cause {
			return false
		}
	}
	return true
}

// manner tells from the made-up mailboxes how the domain takes mail. One that
// was put off or answered by a refusal of us proves nothing.
func (s *site) manner(now time.Time) Manner {
	if len(s.madeUp) == 0 {
		m := *s.Manner
		m.Reused = true
		return m
	}
	m := Manner{At: now, Took: s.took()}
	for _, it := range s.madeUp {
		if it.state == answered {
			m.Exchanger = it.exchanger // where several answered, the last counts
		}
	}
	taken, refused := 0, 0
	for _, it := range s.madeUp {
		if it.state == waiting || it.exchanger != m.Exchanger {
			continue
		}
		m.MadeUp = append(m.MadeUp, MadeUp{it.mailbox, it.asked.Reply, it.asked.Conversation})
		switch {
		case it.state != answered:
		case it.meaning.Effect == reply.Accepted:
			taken++
		case it.saysNo():
			refused++
		}
	}
	if len(m.MadeUp) == 0 && s.Manner != nil {
		m.MadeUp = s.Manner.MadeUp // none was asked about; a host that put them off knows them still
	}
	switch {
	case taken > 0 && refused > 0:
		m.Accepts = AcceptsSome
	case taken >= madeUpPerDomain:
		m.Accepts = AcceptsAny
	case refused > 0:
		m.Accepts = AcceptsKnown
	default:
		m.Accepts = AcceptsOpen
	}
	return m
}

// saysNo tells an answer to a made-up mailbox that sets it apart from real ones:
// a refusal that is not about us; a yes that names it unknown in the same
// breath; a 4xx that calls it unknown, and did so in the round before.
func (it *item) saysNo() bool {
	switch {
	case it.reply.Permanent():
		return it.meaning.About != reply.Us
	case it.reply.Code == 250:
		return it.meaning.Effect == reply.Unclear
	}
	return it.softNo() && it.site.answeredBefore(it)
}

// softNo tells a 4xx that carries a definite no about the mailbox.
func (it *item) softNo() bool {
	return it.reply.Transient() && it.meaning.About == reply.Mailbox && it.meaning.Effect == reply.Postponed
}

// answeredBefore tells that the made-up mailbox got the same reply in an
// earlier round.
func (s *site) answeredBefore(it *item) bool {
	if s.Manner == nil {
		return false
	}
	for _, m := range s.Manner.MadeUp {
		if m.Mailbox == it.mailbox && m.Reply == it.asked.Reply {
			return true
		}
	}
	return false
}

// settle puts one question where it belongs.
func (v *visit) settle(it *item, m Manner) {
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
	r.Asked = append(append([]Asked(nil), r.Asked...), it.asked)
	var again bool
	r.Verdict, again = it.verdict(m, t)
	if again {
		r.Rounds++
		r.Hint = reply.Hint(it.reply)
		v.out.Postponed = append(v.out.Postponed, r)
		return
	}
	v.out.Results = append(v.out.Results, r)
}

// verdict concludes from the answer and the domain's manner; again tells that
// another round may bring more.
func (it *item) verdict(m Manner, t finding.Traits) (v finding.Verdict, again bool) {
	switch {
	case it.state == untaken:
		return finding.ConcludeFrom(finding.ExchangerNoUTF8, t), false
	case it.meaning.Effect == reply.Accepted && it.doubted:
		return finding.ConcludeFrom(finding.MailboxUnclear, t), false
	case it.meaning.Effect == reply.Accepted:
		return it.accepted(m, t)
	case it.meaning.Effect == reply.Unclear && it.reply.Permanent() && it.refusedAsMadeUp(m),
		it.softNo() && it.q.Rounds > 0 && it.refusedAsMadeUp(m):
		return finding.ConcludeFrom(finding.MailboxAbsent, t), false
	}
	cause := it.meaning.Cause
	if cause == finding.MailboxAbsent && m.Accepts == AcceptsSome {
		cause = finding.MailboxUnclear // its no proves as little as its yes
	}
	v = finding.ConcludeFrom(cause, t)
	return v, v.Finding == finding.Undecided && it.meaning.Cause == cause && it.meaning.Effect != reply.Unclear
}

// accepted weighs a yes against what the domain does with made-up mailboxes.
func (it *item) accepted(m Manner, t finding.Traits) (v finding.Verdict, again bool) {
	if finding.Revived(it.q.Absent, it.asked.At) {
		t = t.With(finding.TraitTrapRevived)
	}
	switch m.Accepts {
	case AcceptsKnown:
		return finding.ConcludeFrom(finding.MailboxAccepted, t), false
	case AcceptsAny:
		return finding.ConcludeFrom(finding.MailboxAnyAccepted, t), false
	case AcceptsSome:
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

// refusedAsMadeUp tells a refusal in the very words that made-up mailboxes got
// from a host that takes others: then it means that the mailbox is not there,
// however little the words say.
func (it *item) refusedAsMadeUp(m Manner) bool {
	if m.Accepts != AcceptsKnown || it.meaning.About == reply.Us {
		return false
	}
	if !m.Took && !it.site.took() {
		return false
	}
	for _, other := range m.MadeUp {
		if r := smtp.ReplyFrom(other.Reply); r.Code == it.reply.Code && r.Enhanced == it.reply.Enhanced {
			return true
		}
	}
	return false
}

// took tells that the host took a real mailbox of the domain.
func (s *site) took() bool {
	for _, it := range s.items {
		if it.countIf(reply.Accepted) > 0 {
			return true
		}
	}
	return false
}
