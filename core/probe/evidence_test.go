package probe

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"varnet/core/address"
	"varnet/core/finding"
)

// whims make a host of many domains: some take anything, and it may break off, limit us,
// change its mood once or put strangers off.
type whims struct {
	catchAll                          map[string]bool
	breaks, limits, turns, refusesAll int // at which question of a session; 0: never
	words                             string
	greylists                         bool
	seen                              map[string]bool
	// turned is the domain of the question at which a session's mood turned, unseen those
	// where nothing else of the session was answered: nothing could show that.
	turned string
	unseen map[string]bool
}

func newWhims(rng *rand.Rand) *whims {
	at := func(chance float64) int {
		if rng.Float64() < chance {
			return 2 + rng.IntN(60)
		}
		return 0
	}
	w := &whims{catchAll: map[string]bool{}, breaks: at(.2), limits: at(.2), turns: at(.2), refusesAll: at(.2), seen: map[string]bool{}, unseen: map[string]bool{},
		words: []string{"550 no", "550 5.1.1 no such user", "550 5.7.1 access denied"}[rng.IntN(3)], greylists: rng.IntN(5) == 0}
	if w.turns > 0 { // a host that takes anything and then nobody, in one session, is beyond us
		w.refusesAll = 0
	}
	for n := range 40 {
		w.catchAll[fmt.Sprintf("d%d.example", n)] = rng.IntN(8) == 0
	}
	return w
}

func (w *whims) whimsical() bool { return w.breaks+w.limits+w.turns+w.refusesAll > 0 || w.greylists }

func (w *whims) rcpt(mailbox string, before int) string {
	local, domain, _ := strings.Cut(mailbox, "@")
	before++
	if before == 1 && w.turned != "" {
		w.unseen[w.turned] = true
	}
	if before == w.breaks {
		return "hang up"
	}
	w.turned = ""
	switch {
	case w.limits > 0 && before >= w.limits:
		return "450 4.7.1 too much mail"
	case w.refusesAll > 0 && before >= w.refusesAll:
		if before == w.refusesAll {
			w.turned = domain
		}
		return w.words
	case w.greylists && !w.seen[mailbox]:
		w.seen[mailbox] = true
		return "450 4.2.0 greylisted"
	case w.catchAll[domain], w.turns > 0 && before >= w.turns, local == "postmaster":
		return "250 2.1.5 ok"
	}
	if exists(mailbox) {
		return "250 2.1.5 ok"
	}
	return w.words
}

// TestNoFindingContradictsItsEvidence: over random hosts of many domains, what is
// concluded agrees with what is shown beside it, nothing wrong is concluded, and where
// the host has no whims (nearly) everything is, in the first round.
func TestNoFindingContradictsItsEvidence(t *testing.T) {
	for seed := range uint64(250) {
		rng := rand.New(rand.NewPCG(31, seed))
		w := newWhims(rng)
		var domains []Domain
		for n := range 40 {
			domains = append(domains, drawn(rng, fmt.Sprintf("d%d.example", n), 1+rng.IntN(6)))
		}
		p := prober(hosts{first + ":25": {rcpt: w.rcpt}})
		holdVisit(t, seed, p, w, domains...)
		if t.Failed() {
			t.Logf("host %d: %+v", seed, w)
			return
		}
	}
}

// TestNoFindingOfALargeDomainContradictsItsEvidence: the same of hosts of one domain that is asked about many mailboxes,
// and about others when it is known, and one alone, where sessions take QUIT along with their last questions.
func TestNoFindingOfALargeDomainContradictsItsEvidence(t *testing.T) {
	for seed := range uint64(150) {
		rng := rand.New(rand.NewPCG(32, seed))
		w := newWhims(rng)
		p := prober(hosts{first + ":25": {rcpt: w.rcpt}})
		known := holdVisit(t, seed, p, w, drawn(rng, "d0.example", 60)).Acceptances
		later := drawn(rng, "d0.example", 60)
		later.Acceptances = known
		holdVisit(t, seed, p, w, later)
		for range 5 {
			alone := drawn(rng, "d0.example", 1)
			alone.Acceptances = known
			holdVisit(t, seed, p, w, alone)
		}
		if t.Failed() {
			t.Logf("host %d: %+v", seed, w)
			return
		}
	}
}

// drawn is a domain that is asked about so many mailboxes, of which three in four exist.
func drawn(rng *rand.Rand, name string, mailboxes int) Domain {
	d := Domain{Name: name, Operator: "h.example", Exchangers: exchangers(first)}
	for i := range mailboxes {
		local := []string{"here", "here", "here", "gone"}[rng.IntN(4)] + fmt.Sprint(i)
		d.Questions = append(d.Questions, Question{Address: address.Rebuild(local + "@" + name)})
	}
	return d
}

// holdVisit asks about domains and holds what comes of it.
func holdVisit(t *testing.T, seed uint64, p *Prober, w *whims, domains ...Domain) Outcome {
	t.Helper()
	p.Limits.Waits = p.Limits.Waits.All(20 * time.Second) // nobody is silent but a busy machine
	var known []Acceptance
	for _, d := range domains {
		known = append(known, d.Acceptances...)
	}
	out := p.Probe(t.Context(), Parcel{Domains: domains})
	for _, r := range out.Results {
		holdEvidence(t, seed, w, slices.Concat(known, out.Of(r.Domain)), r)
	}
	// One whose domain took nobody, refused in few words, may take a round more.
	if left := len(out.Postponed) + len(out.Unasked); !w.whimsical() && left > 3 {
		t.Errorf("host %d has no whims, and %d are put off, %d not asked", seed, len(out.Postponed), len(out.Unasked))
	}
	return out
}

// holdEvidence holds a result against what the host said of made-up mailboxes, in this visit at last, and against
// the truth.
func holdEvidence(t *testing.T, seed uint64, w *whims, shown []Acceptance, r Result) {
	t.Helper()
	asked := r.Asked[len(r.Asked)-1]
	yes := strings.HasPrefix(asked.Reply, "250")
	accepts, refused, taken := AcceptsUnknown, 0, 0
	for _, a := range shown {
		accepts = a.Accepts
		for _, m := range a.MadeUp {
			if strings.HasPrefix(m.Reply, "250") {
				taken++
			} else if strings.HasPrefix(m.Reply, "5") {
				refused++
			}
		}
	}
	mailbox := r.Address.Mailbox()
	there := exists(mailbox)
	wrong := ""
	switch c := r.Verdict.Cause; {
	case c == finding.MailboxAccepted && (!yes || accepts != AcceptsKnown || refused == 0 || taken > 0):
		wrong = "accepted, against its evidence"
	case c == finding.MailboxAnyAccepted && (!yes || accepts != AcceptsAny || taken < 2):
		wrong = "any-accepted, against its evidence"
	case c == finding.MailboxAbsent && yes:
		wrong = "absent, though the host said yes"
	case c == finding.MailboxUnclear && yes && accepts != AcceptsMixed:
		wrong = "unclear, though its yes counts or it takes anything"
	case c == finding.MailboxAccepted && !there && !w.unseen[r.Domain] && w.turned != r.Domain:
		wrong = "accepted, and does not exist"
	case c == finding.MailboxAbsent && there:
		wrong = "absent, and exists"
	}
	if wrong != "" {
		t.Errorf("host %d: %s is %s: %q; it %s made-up ones (%d taken, %d refused)", seed, mailbox, wrong, asked.Reply, accepts, taken, refused)
	}
}
