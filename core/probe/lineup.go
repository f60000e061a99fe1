package probe

import (
	"time"

	"varnet/core/reply"
)

// prepare lines up the mailboxes: those of a domain together, the made-up ones
// after the first real one and in the middle.
func (v *visit) prepare(now time.Time) (queue []*item) {
	for i := range v.domains {
		s := &site{Domain: &v.domains[i]}
		v.sites = append(v.sites, s)
		items := make([]item, len(s.Questions))
		for j := range s.Questions {
			q := &s.Questions[j]
			items[j] = item{site: s, q: q, mailbox: q.Address.Mailbox()}
			s.items = append(s.items, &items[j])
			v.utf8 = v.utf8 || q.Address.International()
		}
		line := append([]*item(nil), s.items...)
		if !s.Manner.Good(now) {
			line = interleave(line, s.invent(madeUpPerDomain))
		}
		queue = append(queue, line...)
	}
	return queue
}

// invent adds made-up mailboxes to the site. Those of an earlier round come
// first: a greylisting host lets in only whom it has put off before.
func (s *site) invent(n int) []*item {
	var known []MadeUp
	if s.Manner != nil {
		known = s.Manner.MadeUp
	}
	for i := len(s.madeUp); n > 0; i, n = i+1, n-1 {
		mailbox := madeUpLocal() + "@" + s.Name
		if i < len(known) {
			mailbox = known[i].Mailbox
		}
		s.madeUp = append(s.madeUp, &item{site: s, mailbox: mailbox})
	}
	return s.madeUp
}

func interleave(real, madeUp []*item) []*item {
	middle := (len(real) + 1) / 2
	line := append([]*item{}, real[:min(1, len(real))]...)
	line = append(line, madeUp[0])
	if middle > 1 {
		line = append(line, real[1:middle]...)
	}
	line = append(line, madeUp[1:]...)
	return append(line, real[max(1, middle):]...)
}

// doubtful is how many more made-up mailboxes a doubtful domain is asked about.
const doubtful = 8

// doubt looks for domains whose answers do not fit together: some real
// mailboxes taken and others refused, or real ones refused where both made-up
// ones were taken. A host that answers by chance does just that, and two
// made-up mailboxes find it out only every other time.
func (v *visit) doubt() (queue []*item) {
	for _, s := range v.sites {
		taken, refused := 0, 0
		for _, it := range s.items {
			taken += it.countIf(reply.Accepted)
			refused += it.countIf(reply.Refused)
		}
		accepts := s.manner(v.start).Accepts
		mixed := taken > 0 && accepts == AcceptsKnown || accepts == AcceptsAny
		if len(s.madeUp) > 0 && refused > 0 && mixed {
			queue = append(queue, s.invent(doubtful)[madeUpPerDomain:]...)
		}
	}
	return queue
}

// askPostmasters lines up the postmaster of each domain whose every mailbox was
// refused, and that is not known to have taken any: RFC 5321 section 4.5.1
// obliges a host to take mail for it, so a host that refuses it in the same words
// is broken, and not full of dead people.
func (v *visit) askPostmasters() (queue []*item) {
	for _, s := range v.sites {
		refused, other := 0, 0
		for _, it := range s.items {
			if n := it.countIf(reply.Refused); n > 0 && it.meaning.About == reply.Mailbox {
				refused++
			} else {
				other++
			}
		}
		takes := s.Manner.Good(v.start) && s.Manner.Took
		if refused > 0 && other == 0 && !takes {
			s.postmaster = &item{site: s, mailbox: "postmaster@" + s.Name}
			queue = append(queue, s.postmaster)
		}
	}
	return queue
}

func (it *item) countIf(e reply.Effect) int {
	if it.state == answered && it.meaning.Effect == e {
		return 1
	}
	return 0
}
