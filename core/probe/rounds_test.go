package probe

import (
	"fmt"
	"strings"
	"testing"

	"varnet/core/address"
	"varnet/core/finding"
)

// postponed are the questions of an outcome that want another round.
func postponed(out Outcome) (questions []Question) {
	for _, r := range out.Postponed {
		questions = append(questions, r.Question)
	}
	return questions
}

// TestANoThatIsOnlyPutOff: some hosts say of mailboxes that do not exist to come
// back later, for ever. One that said the same of a made-up mailbox before, and takes
// real ones, means no by it; greylisting, which names nobody, is none.
func TestANoThatIsOnlyPutOff(t *testing.T) {
	h := &host{rcpt: func(m string, _ int) string {
		if exists(m) {
			return "250 2.1.5 ok"
		}
		return "450 4.1.1 <" + m + ">: Recipient address rejected: User unknown in local recipient table"
	}}
	p, d := prober(hosts{first + ":25": h}), domain([]string{first}, "here1", "gone1", "gone2")
	got, out := ask(t, p, d)
	for local, cause := range got {
		if !strings.HasSuffix(cause, " again") {
			t.Fatalf("round 1: %s is %s", local, cause)
		}
	}
	m := acceptance(out)
	d.Acceptances, d.Questions = out.Acceptances, postponed(out)
	got, out = ask(t, p, d)
	if got["gone1"] != "mailbox.absent" || got["gone2"] != "mailbox.absent" || got["here1"] != "mailbox.accepted" {
		t.Errorf("round 2: %v, %+v", got, out.Acceptances)
	}
	for _, u := range m.MadeUp {
		if !strings.HasPrefix(u.Reply, "4") {
			t.Errorf("what was put off is taken for an answer: %+v", u)
		}
	}
}

// TestASessionOutOfStepTeachesNothing: a reply too many, and none of the session's
// answers can be told whose it is. The next session asks one by one.
func TestASessionOutOfStepTeachesNothing(t *testing.T) {
	sessions := 0
	h := &host{rcpt: func(m string, before int) string {
		if before == 0 {
			sessions++
		}
		if sessions == 1 && before == 3 {
			return "250 2.1.5 ok\r\n" + honest(m, before)
		}
		return honest(m, before)
	}}
	locals := []string{"here1", "here2", "here3", "gone1", "gone2", "gone3"}
	got, out := ask(t, prober(hosts{first + ":25": h}), domain([]string{first}, locals...))
	for _, l := range locals {
		want := "mailbox.accepted"
		if !exists(l + "@") {
			want = "mailbox.absent"
		}
		if got[l] != want {
			t.Errorf("%s is %s, want %s", l, got[l], want)
		}
	}
	if len(out.Conversations) < 2 || !strings.Contains(out.Conversations[0].Ended, "more replies than it was asked for") {
		t.Errorf("conversations: %+v", out.Conversations)
	}
	for _, r := range out.Results {
		if r.Asked[len(r.Asked)-1].Conversation == 0 {
			t.Errorf("%s is concluded from the session that was out of step: %+v", r.Address.Local, r.Asked)
		}
	}
}

// TestOperatorsSideBySide: a parcel of many small operators asks each at its own
// host, one session at a time, and keeps its answers apart.
func TestOperatorsSideBySide(t *testing.T) {
	network, parcel := hosts{}, Parcel{}
	for n := range 60 {
		name, addr := fmt.Sprintf("shop-%02d.example", n), fmt.Sprintf("192.88.99.%d", n+1)
		network[addr+":25"] = &host{rcpt: honest}
		d := Domain{Name: name, Operator: name, Exchangers: exchangers(addr)}
		for i, local := range []string{"here", "gone"} {
			d.Questions = append(d.Questions, Question{Ref: int64(2*n + i), Address: address.Rebuild(local + "@" + name)})
		}
		parcel.Domains = append(parcel.Domains, d)
	}
	out := prober(network).Probe(t.Context(), parcel)
	if len(out.Results) != 120 || out.Answered() != 120 || len(out.Seen) != 60 {
		t.Fatalf("%d results, %d answered, %d operators", len(out.Results), out.Answered(), len(out.Seen))
	}
	for _, r := range out.Results {
		want := finding.MailboxAccepted
		if r.Ref%2 == 1 {
			want = finding.MailboxAbsent
		}
		c := out.Conversations[r.Asked[0].Conversation]
		if r.Verdict.Cause != want || r.Domain != fmt.Sprintf("shop-%02d.example", r.Ref/2) || c.Addr != fmt.Sprintf("192.88.99.%d:25", r.Ref/2+1) {
			t.Errorf("%d at %s is %s, asked at %s", r.Ref, r.Domain, r.Verdict.Cause, c.Addr)
		}
	}
	for addr, h := range network {
		if h.sessions > 2 { // the second asks about more made-up mailboxes
			t.Errorf("%s had %d sessions", addr, h.sessions)
		}
	}
}

func TestEveryAcceptanceIsSaid(t *testing.T) {
	for _, a := range []Accepts{AcceptsKnown, AcceptsAny, AcceptsMixed, AcceptsUnknown} {
		if s := a.Sentence(); !strings.HasPrefix(s, "It ") || !strings.HasSuffix(s, ".") {
			t.Errorf("%s is said as %q", a, s)
		}
	}
}
