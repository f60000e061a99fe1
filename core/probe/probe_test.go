package probe

import (
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"varnet/core/address"
	"varnet/core/finding"
	"varnet/core/resolve"
	"varnet/core/smtp"
)

// host is a mail host in memory; rcpt answers about a mailbox, given how many
// were asked about before in the session.
type host struct {
	greeting string
	utf8     bool
	rcpt     func(mailbox string, before int) string

	mu       sync.Mutex
	sessions int
	asked    []string
}

// hosts is a network of them, by address; it is the prober's dialer.
type hosts map[string]*host

func (n hosts) DialContext(_ context.Context, _, addr string) (net.Conn, error) {
	h, ok := n[addr]
	if !ok {
		return nil, errors.New("connection refused")
	}
	h.mu.Lock()
	h.sessions++
	h.mu.Unlock()
	ours, theirs := net.Pipe()
	go h.serve(theirs)
	return ours, nil
}

func (h *host) serve(conn net.Conn) {
	defer conn.Close()
	greeting := h.greeting
	if greeting == "" {
		greeting = "220 host"
	}
	fmt.Fprint(conn, greeting+"\r\n")
	if strings.HasPrefix(greeting, "421") {
		return
	}
	lines := make(chan string, 1000)
	go func() {
		defer close(lines)
		for in := bufio.NewScanner(conn); in.Scan(); {
			lines <- in.Text()
		}
	}()
	before := 0
	for line := range lines {
		answer := "250 ok"
		switch {
		case strings.HasPrefix(line, "EHLO"):
			answer = "250-host\r\n250-PIPELINING\r\n250 ENHANCEDSTATUSCODES"
			if h.utf8 {
				answer = strings.Replace(answer, "\r\n", "\r\n250-SMTPUTF8\r\n", 1)
			}
		case strings.HasPrefix(line, "RCPT TO:<"):
			mailbox := line[len("RCPT TO:<") : len(line)-1]
			h.mu.Lock()
			h.asked = append(h.asked, mailbox)
			h.mu.Unlock()
			answer = h.rcpt(mailbox, before)
			before++
		case line == "QUIT":
			answer = "221 bye"
		}
		if answer == "hang up" {
			return
		}
		fmt.Fprint(conn, answer+"\r\n")
		if line == "QUIT" || strings.HasPrefix(answer, "421") {
			return
		}
	}
}

// exists is a mailbox of the tests that is there.
func exists(mailbox string) bool { return strings.HasPrefix(mailbox, "here") }

func honest(mailbox string, _ int) string {
	if exists(mailbox) {
		return "250 2.1.5 ok"
	}
	return "550 5.1.1 no such user"
}

func prober(n hosts) *Prober {
	p := New(n, smtp.Identity{Name: "verify.fernhollow.example", Sender: "check@fernhollow.example"})
	p.Limits.Waits = p.Limits.Waits.All(300 * time.Millisecond)
	return p
}

const first, second = "192.88.99.1", "192.88.99.2"

func exchangers(addrs ...string) (out []resolve.Exchanger) {
	for i, a := range addrs {
		out = append(out, resolve.Exchanger{Host: fmt.Sprintf("mx%d.h.example", i+1), Addrs: []netip.Addr{netip.MustParseAddr(a)}})
	}
	return out
}

func domain(addrs []string, locals ...string) Domain {
	d := Domain{Name: "h.example", Operator: "h.example", Exchangers: exchangers(addrs...)}
	for i, l := range locals {
		d.Questions = append(d.Questions, Question{Ref: int64(i), Address: address.Rebuild(l + "@h.example")})
	}
	return d
}

// ask probes one domain and gives the verdicts by local part, with a mark for
// those that want another round or were not reached.
func ask(t *testing.T, p *Prober, d Domain) (map[string]string, Outcome) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	out := p.Probe(ctx, Parcel{Domains: []Domain{d}})
	got := map[string]string{}
	for mark, list := range map[string][]Result{"": out.Results, " again": out.Postponed, " unasked": out.Unasked} {
		for _, r := range list {
			if _, twice := got[r.Address.Local]; twice {
				t.Errorf("%s came back twice", r.Address.Local)
			}
			got[r.Address.Local] = string(r.Verdict.Cause) + mark
		}
	}
	if len(got) != len(d.Questions) {
		t.Errorf("%d of %d questions came back", len(got), len(d.Questions))
	}
	return got, out
}

func TestVerdicts(t *testing.T) {
	for _, c := range []struct {
		name string
		host *host
		want map[string]string
	}{
		{"an honest host", &host{rcpt: honest},
			map[string]string{"here1": "mailbox.accepted", "here2": "mailbox.accepted", "gone": "mailbox.absent"}},
		{"one that takes anything", &host{rcpt: func(string, int) string { return "250 ok" }},
			map[string]string{"here1": "mailbox.any-accepted", "gone": "mailbox.any-accepted"}},
		{"one that takes anything but a switched-off mailbox", &host{rcpt: func(m string, _ int) string {
			if strings.HasPrefix(m, "off") {
				return "550 5.2.1 mailbox disabled"
			}
			return "250 ok"
		}}, map[string]string{"here1": "mailbox.any-accepted", "off": "mailbox.disabled"}},
		{"one that takes anything after some refusals", &host{rcpt: func(m string, before int) string {
			if before >= 6 {
				return "250 ok"
			}
			return honest(m, 0)
		}}, map[string]string{"here1": "mailbox.unclear", "gone1": "mailbox.unclear", "gone2": "mailbox.unclear", "gone3": "mailbox.unclear", "gone4": "mailbox.unclear"}},
		{"one that refuses in bare words", &host{rcpt: func(m string, _ int) string {
			if exists(m) {
				return "250 ok"
			}
			return "550 no"
		}}, map[string]string{"here1": "mailbox.accepted", "gone": "mailbox.absent"}},
		{"one that refuses everybody in bare words", &host{rcpt: func(string, int) string { return "550 no" }},
			map[string]string{"here1": "mailbox.unclear", "gone": "mailbox.unclear"}},
		{"one that calls everybody unknown, its postmaster too", &host{rcpt: func(string, int) string { return "550 5.1.1 user unknown" }},
			map[string]string{"here1": "mailbox.unclear", "here2": "mailbox.unclear", "here3": "mailbox.unclear"}},
		{"one that took mail only for its postmaster", &host{rcpt: func(m string, _ int) string {
			if strings.HasPrefix(m, "postmaster") {
				return "250 ok"
			}
			return "550 5.1.1 user unknown"
		}}, map[string]string{"gone1": "mailbox.absent", "gone2": "mailbox.absent", "gone3": "mailbox.absent"}},
		{"one that puts everybody off", &host{rcpt: func(string, int) string { return "450 4.2.0 greylisted" }},
			map[string]string{"here1": "exchanger.postponed again", "gone": "exchanger.postponed again"}},
		{"one that puts made-up ones off alone", &host{rcpt: func(m string, _ int) string {
			if exists(m) {
				return "250 ok"
			}
			return "450 4.2.0 greylisted"
		}}, map[string]string{"here1": "exchanger.postponed again"}},
		{"one that blocks us", &host{rcpt: func(string, int) string { return "550 5.7.1 your host is on a blocklist" }},
			map[string]string{"here1": "exchanger.blocks-us again", "gone": "exchanger.blocks-us again"}},
		{"one that is busy", &host{greeting: "421 4.3.2 busy"}, map[string]string{"here1": "exchanger.unavailable again"}},
		{"one that refuses us at the banner", &host{greeting: "554 5.7.1 bad reputation"}, map[string]string{"here1": "exchanger.blocks-us again"}},
		{"one that hangs up at every second question", &host{rcpt: func(m string, before int) string {
			if before == 1 {
				return "hang up"
			}
			return honest(m, 0)
		}}, map[string]string{"here1": "mailbox.accepted", "here2": "mailbox.accepted", "gone": "mailbox.absent"}},
		{"one that says yes and unknown in one breath", &host{rcpt: func(m string, _ int) string {
			if exists(m) {
				return "250 ok"
			}
			return "250 ok, queued for unknown user"
		}}, map[string]string{"here1": "mailbox.accepted", "gone": "mailbox.unclear"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var locals []string
			for l := range c.want {
				locals = append(locals, l)
			}
			slices.Sort(locals)
			slices.Reverse(locals) // "here" before "gone"
			got, _ := ask(t, prober(hosts{first + ":25": c.host}), domain([]string{first}, locals...))
			for l, want := range c.want {
				if got[l] != want {
					t.Errorf("%s: %s, want %s", l, got[l], want)
				}
			}
		})
	}
}

func TestAHostThatAnswersByChanceIsFoundOut(t *testing.T) {
	found := 0
	for seed := range 40 {
		h := &host{rcpt: func(m string, _ int) string {
			if sum := sha256.Sum256(fmt.Append(nil, seed, m)); sum[0]&1 == 0 {
				return "250 ok"
			}
			return "550 5.1.1 no such user"
		}}
		got, _ := ask(t, prober(hosts{first + ":25": h}), domain([]string{first}, "here1", "here2", "here3", "here4", "gone1", "gone2", "gone3", "gone4"))
		unclear := 0
		for _, cause := range got {
			if cause == "mailbox.unclear" {
				unclear++
			}
		}
		if unclear == len(got) {
			found++
		} else {
			t.Log(seed, got)
		}
	}
	if found < 38 { // eight answers agree by chance once in 128, ten made-up ones once in 512
		t.Errorf("found out %d times of 40", found)
	}
}

func TestTheNextExchangerIsTried(t *testing.T) {
	for name, firstHost := range map[string]*host{"dead": nil, "busy": {greeting: "421 busy"}, "silent about mail": {greeting: "554 no"}} {
		n := hosts{second + ":25": {rcpt: honest}}
		if firstHost != nil {
			n[first+":25"] = firstHost
		}
		got, out := ask(t, prober(n), domain([]string{first, second}, "here1", "gone"))
		if got["here1"] != "mailbox.accepted" || got["gone"] != "mailbox.absent" || len(out.Conversations) < 2 {
			t.Errorf("first exchanger %s: %v", name, got)
		}
	}
}

func TestAfterSilenceAnotherExchangerIsAsked(t *testing.T) {
	n := hosts{second + ":25": {rcpt: honest}, first + ":25": {rcpt: func(string, int) string { time.Sleep(400 * time.Millisecond); return "250 late" }}}
	got, _ := ask(t, prober(n), domain([]string{first, second}, "here1", "gone"))
	if got["here1"] != "mailbox.accepted" || got["gone"] != "mailbox.absent" {
		t.Errorf("got %v", got)
	}
}

// TestAnotherExchangersYesDoesNotCount holds a backup host that takes anything
// against what is known of the first.
func TestAnotherExchangersYesDoesNotCount(t *testing.T) {
	n := hosts{second + ":25": {rcpt: func(string, int) string { return "250 ok" }}}
	d := domain([]string{first, second}, "here1", "gone")
	d.Manner = &Manner{Accepts: AcceptsKnown, Exchanger: "mx1.h.example", At: time.Now()}
	got, out := ask(t, prober(n), d)
	if !strings.HasSuffix(got["gone"], " again") || out.Manners["h.example"].Accepts != AcceptsOpen {
		t.Errorf("got %v, manner %+v", got, out.Manners["h.example"])
	}
}

func TestAKnownMannerSparesMadeUpMailboxes(t *testing.T) {
	h := &host{rcpt: honest}
	d := domain([]string{first}, "here1", "gone")
	d.Manner = &Manner{Accepts: AcceptsKnown, Exchanger: "mx1.h.example", At: time.Now().Add(-time.Hour)}
	got, out := ask(t, prober(hosts{first + ":25": h}), d)
	if got["here1"] != "mailbox.accepted" || len(h.asked) != 2 || !out.Manners["h.example"].Reused {
		t.Errorf("got %v; the host was asked about %v", got, h.asked)
	}
	d.Manner.At = time.Now().Add(-Fresh - time.Minute)
	h.asked = nil
	if _, out = ask(t, prober(hosts{first + ":25": h}), d); len(h.asked) <= 2 || out.Manners["h.example"].Reused {
		t.Errorf("a stale manner was believed; the host was asked about %v", h.asked)
	}
}

// TestAKnownMannerTellsANoOfFewWords: what a terse host said of made-up mailboxes
// while it took another one is known, and tells what its no means.
func TestAKnownMannerTellsANoOfFewWords(t *testing.T) {
	h := &host{rcpt: func(mailbox string, _ int) string {
		if exists(mailbox) {
			return "250 ok"
		}
		return "550 no"
	}}
	_, out := ask(t, prober(hosts{first + ":25": h}), domain([]string{first}, "here1", "gone"))
	d := domain([]string{first}, "gone1", "gone2")
	for took, want := range map[bool]string{true: "mailbox.absent", false: "mailbox.unclear"} {
		m := out.Manners["h.example"]
		m.Took = took
		d.Manner = &m
		if got, _ := ask(t, prober(hosts{first + ":25": h}), d); got["gone1"] != want || got["gone2"] != want {
			t.Errorf("the host took others: %v; got %v", took, got)
		}
	}
}

func TestMadeUpMailboxesKeepTheirNamesOverTheRounds(t *testing.T) {
	seen := map[string]bool{}
	h := &host{rcpt: func(m string, _ int) string {
		if !seen[m] {
			seen[m] = true
			return "450 4.2.0 greylisted"
		}
		return honest(m, 0)
	}}
	p, d := prober(hosts{first + ":25": h}), domain([]string{first}, "here1")
	got, out := ask(t, p, d)
	if got["here1"] != "exchanger.postponed again" {
		t.Fatalf("round 1: %v", got)
	}
	m := out.Manners["h.example"]
	d.Manner, d.Questions = &m, []Question{out.Postponed[0].Question}
	h.greeting = "421 4.7.0 Too many connections from your address"
	full := p.Probe(t.Context(), Parcel{Lanes: 2, Domains: []Domain{d}}).Manners["h.example"]
	if len(full.MadeUp) != len(m.MadeUp) || full.MadeUp[0].Mailbox != m.MadeUp[0].Mailbox || full.Accepts != AcceptsOpen {
		t.Errorf("a host without room lost the made-up mailboxes: %+v; before: %+v", full, m)
	}
	h.greeting, d.Manner = "", &full
	if got, out = ask(t, p, d); got["here1"] != "mailbox.accepted" || out.Results[0].Rounds != 1 || len(out.Results[0].Asked) != 2 {
		t.Errorf("round 2: %v, %+v", got, out.Results)
	}
}

func TestInternationalAddresses(t *testing.T) {
	d := domain([]string{first}, "hereö", "here1")
	for utf8, want := range map[bool]string{true: "mailbox.accepted", false: "exchanger.no-utf8"} {
		got, _ := ask(t, prober(hosts{first + ":25": {rcpt: honest, utf8: utf8}}), d)
		if got["hereö"] != want || got["here1"] != "mailbox.accepted" {
			t.Errorf("SMTPUTF8 %v: %v", utf8, got)
		}
	}
}

func TestAHostThatBlocksUsIsNotAskedOn(t *testing.T) {
	h := &host{rcpt: func(string, int) string { return "550 5.7.1 your ip is blocked" }}
	var locals []string
	for i := range 200 {
		locals = append(locals, fmt.Sprintf("here%d", i))
	}
	got, _ := ask(t, prober(hosts{first + ":25": h}), domain([]string{first}, locals...))
	if got["here199"] != "exchanger.blocks-us again" || len(h.asked) > smtp.DefaultLimits().Refusals {
		t.Errorf("asked about %d of 200; the last is %s", len(h.asked), got["here199"])
	}
}

func TestWhatWasNotReachedLosesNothing(t *testing.T) {
	h := &host{rcpt: func(m string, _ int) string { time.Sleep(40 * time.Millisecond); return honest(m, 0) }}
	var locals []string
	for i := range 60 {
		locals = append(locals, fmt.Sprintf("here%d", i))
	}
	p, d := prober(hosts{first + ":25": h}), domain([]string{first}, locals...)
	p.Limits.Window = 1
	ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
	defer cancel()
	out := p.Probe(ctx, Parcel{Domains: []Domain{d}})
	if len(out.Unasked) == 0 || len(out.Results)+len(out.Postponed)+len(out.Unasked) != 60 {
		t.Fatalf("%d concluded, %d put off, %d not reached", len(out.Results), len(out.Postponed), len(out.Unasked))
	}
	for _, r := range out.Unasked {
		if r.Rounds != 0 || len(r.Asked) != 0 {
			t.Errorf("%s lost a round: %+v", r.Address.Local, r)
		}
	}
}

// TestSessionsStayShort holds a host's patience: no session has more refusals
// than the limit, however many mailboxes are gone.
func TestSessionsStayShort(t *testing.T) {
	most := 0
	h := &host{rcpt: func(m string, before int) string { most = max(most, before+1); return "550 5.1.1 no such user" }}
	var locals []string
	for i := range 40 {
		locals = append(locals, fmt.Sprintf("gone%d", i))
	}
	p := prober(hosts{first + ":25": h})
	ask(t, p, domain([]string{first}, locals...))
	if most > p.Limits.Refusals || h.sessions < 5 {
		t.Errorf("%d refusals in a session, %d sessions", most, h.sessions)
	}
}

// TestAHostWithoutRoomCostsNothing: one more session than a host takes loses its
// mailboxes no round where we have others open; where it is our only one, they wait.
func TestAHostWithoutRoomCostsNothing(t *testing.T) {
	full := &host{greeting: "421 4.7.0 Too many connections from your address", rcpt: honest}
	for lanes, unasked := range map[int]int{3: 2, 1: 0} {
		out := prober(hosts{first + ":25": full}).Probe(t.Context(), Parcel{Lanes: lanes, Domains: []Domain{domain([]string{first}, "here1", "gone")}})
		if len(out.Unasked) != unasked || len(out.Postponed) != 2-unasked || len(out.Results) != 0 {
			t.Errorf("%d lanes: %d not asked, %d put off, %d concluded", lanes, len(out.Unasked), len(out.Postponed), len(out.Results))
		}
		for _, seen := range out.Seen {
			if seen.Throttled == 0 {
				t.Errorf("%d lanes: nobody complained: %+v", lanes, seen)
			}
		}
	}
}

func TestPatience(t *testing.T) {
	for cause, rounds := range map[finding.Cause]int{finding.ExchangerUnreachable: 1, finding.ExchangerBlocksUs: 1, finding.ExchangerPostponed: 9} {
		r := Result{Verdict: finding.ConcludeFrom(cause, nil)}
		if r.Rounds = rounds; !r.Patient() {
			t.Errorf("%s: not worth round %d", cause, rounds)
		}
		if r.Rounds = rounds + 1; rounds == 1 && r.Patient() {
			t.Errorf("%s: worth round %d", cause, r.Rounds)
		}
	}
}

func TestPrivateAddressesAreNotContacted(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	for _, addr := range []string{l.Addr().String(), "10.1.2.3:25", "169.254.169.254:80", "[::1]:25", "[fd00::1]:25", "0.0.0.0:25"} {
		if c, err := DirectDialer(false).DialContext(t.Context(), "tcp", addr); err == nil || !strings.Contains(err.Error(), "not a public address") {
			t.Errorf("%s: %v, %v", addr, c, err)
		}
	}
	c, err := DirectDialer(true).DialContext(t.Context(), "tcp", l.Addr().String())
	if err != nil {
		t.Errorf("where it is allowed: %v", err)
	} else {
		_ = c.Close()
	}
}
