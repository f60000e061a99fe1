package probe

import (
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"regexp"
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

// turns counts how often what was said to hosts is waited on: the round trips after the greeting.
type turns struct {
	hosts
	taken int
}

func (n *turns) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	c, err := n.hosts.DialContext(ctx, network, addr)
	return &turning{Conn: c, of: n}, err
}

type turning struct {
	net.Conn
	of   *turns
	said bool
}

func (c *turning) Write(b []byte) (int, error) {
	c.said = true
	return c.Conn.Write(b)
}

func (c *turning) Read(b []byte) (int, error) {
	if c.said {
		c.said = false
		c.of.taken++
	}
	return c.Conn.Read(b)
}

// exists is a mailbox of the tests that is there.
func exists(mailbox string) bool { return there.MatchString(mailbox) }

var there = regexp.MustCompile(`^here[0-9ö]*@`)

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
		}}, map[string]string{"here1": "mailbox.unclear", "gone1": "mailbox.unclear", "gone2": "mailbox.unclear", "gone3": "mailbox.unclear", "gone4": "mailbox.unclear",
			"here2": "mailbox.unclear", "here3": "mailbox.unclear", "here4": "mailbox.unclear", "here5": "mailbox.unclear", "here6": "mailbox.unclear", "here7": "mailbox.unclear"}},
		{"one that refuses in bare words", &host{rcpt: func(m string, _ int) string {
			if exists(m) {
				return "250 ok"
			}
			return "550 no"
		}}, map[string]string{"here1": "mailbox.accepted", "gone": "mailbox.absent"}},
		{"one that refuses everybody in bare words", &host{rcpt: func(string, int) string { return "550 no" }},
			map[string]string{"here1": "mailbox.unclear", "gone": "mailbox.unclear"}},
		{"one that calls everybody unknown, its postmaster too", &host{rcpt: func(string, int) string { return "550 5.1.1 user unknown" }},
			map[string]string{"here1": "mailbox.unclear", "here2": "mailbox.unclear", "here3": "mailbox.unclear", "here4": "mailbox.unclear", "here5": "mailbox.unclear"}},
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

// byChance takes every other mailbox, others at each seed.
func byChance(seed int) *host {
	return &host{rcpt: func(m string, _ int) string {
		if sum := sha256.Sum256(fmt.Append(nil, seed, m)); sum[0]&1 == 0 {
			return "250 ok"
		}
		return "550 5.1.1 no such user"
	}}
}

// allUnclear reports whether nothing was concluded.
func allUnclear(got map[string]string) bool {
	for _, cause := range got {
		if cause != "mailbox.unclear" {
			return false
		}
	}
	return true
}

func TestAHostThatAnswersByChanceIsFoundOut(t *testing.T) {
	found := 0
	for seed := range 40 {
		var locals []string
		for i := range 8 {
			locals = append(locals, fmt.Sprint("here", i), fmt.Sprint("gone", i))
		}
		if got, _ := ask(t, prober(hosts{first + ":25": byChance(seed)}), domain([]string{first}, locals...)); allUnclear(got) {
			found++
		} else {
			t.Log(seed, got)
		}
	}
	// Two of these hosts refuse few of the 16, and are asked about two made-up ones alone, which are refused once in
	// four times; ten are once in 1,024. Five of 40 come to that once in 100,000 times.
	if found < 36 {
		t.Errorf("found out %d times of 40", found)
	}
}

// TestAHostThatAnswersByChanceIsFoundOutInParts asks it about few mailboxes at a time: what
// it said before counts.
func TestAHostThatAnswersByChanceIsFoundOutInParts(t *testing.T) {
	found := 0
	for seed := range 60 {
		p := prober(hosts{first + ":25": byChance(seed)})
		var known []Acceptance
		var got map[string]string
		for part := range 6 {
			d := domain([]string{first}, fmt.Sprint("here", part), fmt.Sprint("gone", part), fmt.Sprint("here", part+10))
			d.Acceptances = known
			var out Outcome
			got, out = ask(t, p, d)
			if len(out.Acceptances) > 0 {
				known = out.Acceptances
			}
		}
		if len(known) == 1 && known[0].Accepts == AcceptsMixed && allUnclear(got) {
			found++
		} else {
			t.Logf("%d: %+v %v", seed, known, got)
		}
	}
	if found < 54 {
		t.Errorf("found out %d times of 60", found)
	}
}

// TestDoubt holds how many refusals of made-up mailboxes answers want.
func TestDoubt(t *testing.T) {
	for _, c := range []struct{ taken, refused, want int }{
		{0, 0, 0}, {1, 0, 0}, {0, 9, 0}, {2, 1, 0}, {3, 1, 0}, {2, 2, 4}, {5, 2, 0}, {4, 3, 7},
		{7, 2, 0}, {7, 3, Proof}, {4, 4, Proof}, {30, 10, 0}, {60, 40, Proof}, {1, 7, Proof}, {70, 35, 0}, {400, 176, 0}, {320, 260, Proof},
	} {
		if got := (tally{c.taken, c.refused}).proof(); got != c.want {
			t.Errorf("%d taken and %d refused want %d, not %d", c.taken, c.refused, got, c.want)
		}
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

// acceptance is what was learnt of the one exchanger that was asked.
func acceptance(out Outcome) Acceptance {
	if len(out.Acceptances) == 0 {
		return Acceptance{Accepts: AcceptsUnknown}
	}
	return out.Acceptances[len(out.Acceptances)-1]
}

// remembered is what may be known of an exchanger of the tests.
func remembered(a Accepts, ago time.Duration) []Acceptance {
	return []Acceptance{{Domain: "h.example", Exchanger: "mx1.h.example", Accepts: a, At: time.Now().Add(-ago)}}
}

// listedOrPostmaster are the mailboxes of the tests; a made-up one may begin as these do.
var listedOrPostmaster = regexp.MustCompile(`^((here|gone)[0-9ö]*|postmaster)@`)

// madeUpOf lists the made-up mailboxes among those a host was asked about.
func madeUpOf(asked []string) (out []string) {
	for _, m := range asked {
		if !listedOrPostmaster.MatchString(m) {
			out = append(out, m)
		}
	}
	return out
}

// faulty is a network that has a fault of ours come to light.
type faulty struct{}

func (faulty) DialContext(context.Context, string, string) (net.Conn, error) {
	panic("a place beyond the end")
}

// TestAFaultEndsItsParcel: a fault of ours in a visit comes to light where the parcel is waited for, whose job it ends; it
// does not end the process.
func TestAFaultEndsItsParcel(t *testing.T) {
	p := New(faulty{}, smtp.Identity{Name: "verify.fernhollow.example", Sender: "check@fernhollow.example"})
	defer func() {
		if told := fmt.Sprint(recover()); !strings.HasPrefix(told, "a place beyond the end") || !strings.Contains(told, "faulty.DialContext") {
			t.Errorf("the parcel ended with %s", told)
		}
	}()
	p.Probe(t.Context(), Parcel{Domains: []Domain{domain([]string{first}, "here1")}})
	t.Error("the fault did not come to light")
}

// TestABackupsWordIsProvisional: a host that takes anything behind one that is busy,
// refuses, hangs up or is gone concludes nothing while the best may come back.
func TestABackupsWordIsProvisional(t *testing.T) {
	takesAll := &host{rcpt: func(string, int) string { return "250 ok" }}
	for name, best := range map[string]*host{"busy": {greeting: "421 busy"}, "refusing": {greeting: "554 no service"}, "gone": nil,
		"hanging up": {rcpt: func(string, int) string { return "hang up" }}} {
		n := hosts{second + ":25": takesAll}
		if best != nil {
			n[first+":25"] = best
		}
		d := domain([]string{first, second}, "here1", "gone")
		d.Exchangers[1].Preference = 20
		got, out := ask(t, prober(n), d)
		if got["here1"] != "mailbox.any-accepted again" || got["gone"] != "mailbox.any-accepted again" {
			t.Errorf("%s: %v", name, got)
			continue
		}
		if why := out.Postponed[0].Asked[0].Why; !strings.Contains(why, "backup exchanger") {
			t.Errorf("%s: the evidence does not tell: %s", name, why)
		}
		n[first+":25"] = &host{rcpt: honest}
		d.Questions, d.Acceptances = postponed(out), out.Acceptances
		if got, _ = ask(t, prober(n), d); got["here1"] != "mailbox.accepted" || got["gone"] != "mailbox.absent" {
			t.Errorf("%s: when the best came back: %v", name, got)
		}
	}
}

// TestEachSessionIsHeldAgainstAMadeUpMailbox: what is known of an exchanger spares
// none, so that one which takes anything from now on is found out.
func TestEachSessionIsHeldAgainstAMadeUpMailbox(t *testing.T) {
	takesAll := &host{rcpt: func(string, int) string { return "250 ok" }}
	d := domain([]string{first}, "here1", "gone1", "gone2", "gone3")
	d.Acceptances = remembered(AcceptsKnown, time.Hour)
	if got, _ := ask(t, prober(hosts{first + ":25": takesAll}), d); got["gone1"] != "mailbox.any-accepted" || got["here1"] != "mailbox.any-accepted" {
		t.Errorf("a host that takes anything now: %v", got)
	}
	places := map[int]bool{}
	for range 200 {
		h := &host{rcpt: honest}
		d := domain([]string{first}, "here1", "gone1", "here2", "here3", "here4", "here5", "gone2")
		d.Acceptances = remembered(AcceptsKnown, time.Hour)
		got, _ := ask(t, prober(hosts{first + ":25": h}), d)
		if n := len(madeUpOf(h.asked)); n == 0 || n > 2 || got["here5"] != "mailbox.accepted" || got["gone1"] != "mailbox.absent" {
			t.Fatalf("asked about %v: %v", h.asked, got)
		}
		places[slices.Index(h.asked, madeUpOf(h.asked)[0])] = true
	}
	if len(places) < 5 {
		t.Errorf("the made-up mailbox stands at %d places only", len(places))
	}
}

// TestFewMadeUpMailboxesWhereNothingIsInDoubt holds what an honest host is asked.
func TestFewMadeUpMailboxesWhereNothingIsInDoubt(t *testing.T) {
	for _, locals := range [][]string{{"here1"}, {"gone1"}, {"here1", "here2", "gone1"}, {"gone1", "here1"}, {"here1", "here2", "here3", "here4", "here5", "here6", "gone1"}} {
		h := &host{rcpt: honest}
		ask(t, prober(hosts{first + ":25": h}), domain([]string{first}, locals...))
		if n := len(madeUpOf(h.asked)); n > 2 || h.sessions > 1 {
			t.Errorf("%v: asked about %d made-up mailboxes in %d sessions: %v", locals, n, h.sessions, h.asked)
		}
	}
}

// TestALimitOnUsIsNotAbsence: a host of few words that begins to refuse everybody, in
// other words or the same, has changed its mood; nobody is gone for it.
func TestALimitOnUsIsNotAbsence(t *testing.T) {
	var locals []string
	for i := range 90 {
		locals = append(locals, fmt.Sprintf("here%d", i))
	}
	locals = append(locals, "gone1", "gone2", "gone3")
	for _, words := range []string{"550 frequency limited", "550 administrative prohibition", "550 no", "550 5.1.1 no such user"} {
		for _, known := range [][]Acceptance{nil, remembered(AcceptsKnown, time.Hour)} {
			asked := 0
			h := &host{rcpt: func(m string, before int) string {
				if asked++; asked > 60 {
					return words
				}
				if exists(m) {
					return "250 ok"
				}
				return "550 no"
			}}
			d := domain([]string{first}, locals...)
			d.Acceptances = known
			got, out := ask(t, prober(hosts{first + ":25": h}), d)
			for local, cause := range got {
				if exists(local+"@") && strings.HasPrefix(cause, "mailbox.absent") {
					t.Errorf("%q from the 61st question on: %s is %s", words, local, cause)
				}
			}
			if len(h.asked) > 60+smtp.DefaultLimits().Window/2 {
				t.Errorf("%q: asked on, %d times", words, len(h.asked))
			}
			for _, s := range out.Seen {
				if s.Throttled == 0 {
					t.Errorf("%q: nobody is slower for it", words)
				}
			}
		}
	}
}

// TestAComplaintEndsTheAsking: after a complaint at a recipient nothing more is asked
// but what was on its way, and the rest loses nothing.
func TestAComplaintEndsTheAsking(t *testing.T) {
	for _, words := range []string{"450 4.7.1 too much mail", "451 4.7.1 too many bad recipients", "550 frequency limited"} {
		h := &host{rcpt: func(m string, before int) string {
			if before >= 10 {
				return words
			}
			return honest(m, 0)
		}}
		var locals []string
		for i := range 100 {
			locals = append(locals, fmt.Sprintf("here%d", i))
		}
		_, out := ask(t, prober(hosts{first + ":25": h}), domain([]string{first}, locals...))
		if len(h.asked) > 12 || h.sessions != 1 || len(out.Unasked) < 85 {
			t.Errorf("%q: asked about %d in %d sessions; %d lose nothing", words, len(h.asked), h.sessions, len(out.Unasked))
		}
	}
}

// TestGreylistingEndsTheAsking: a stranger who is put off twice asks no more; one who
// is let in where he was put off before introduces everybody.
func TestGreylistingEndsTheAsking(t *testing.T) {
	seen := map[string]bool{}
	h := &host{rcpt: func(m string, _ int) string {
		if !seen[m] {
			seen[m] = true
			return "450 4.2.0 greylisted"
		}
		return honest(m, 0)
	}}
	p, d := prober(hosts{first + ":25": h}), domain([]string{first}, "here1", "here2", "here3", "here4", "gone1", "gone2")
	got, out := ask(t, p, d)
	if len(h.asked) > 2 || len(out.Postponed) != 6 {
		t.Fatalf("round 1: asked about %v; %v", h.asked, got)
	}
	for round := 2; round <= 3; round++ {
		d.Questions, d.Acceptances = postponed(out), out.Acceptances
		var results map[string]string
		results, out = ask(t, p, d)
		for l, c := range results {
			got[l] = c
		}
	}
	for l, c := range got {
		want := map[bool]string{true: "mailbox.accepted", false: "mailbox.absent"}[exists(l+"@")]
		if c != want {
			t.Errorf("round 3: %s is %s", l, c)
		}
	}
}

// TestContrastWithinASession: what real mailboxes get and made-up ones do not is about
// the mailbox, whatever the words; the route is not refused.
func TestContrastWithinASession(t *testing.T) {
	for _, words := range []string{"550 5.7.1 access denied", "550 no", "554 5.7.1 rejected by policy"} {
		h := &host{rcpt: func(m string, _ int) string {
			if exists(m) {
				return "250 ok"
			}
			return words
		}}
		d := domain([]string{first}, "here1", "gone1", "gone2", "gone3", "gone4", "gone5", "here2", "gone6")
		got, out := ask(t, prober(hosts{first + ":25": h}), d)
		for l, c := range got {
			want := map[bool]string{true: "mailbox.accepted", false: "mailbox.absent"}[exists(l+"@")]
			if c != want {
				t.Errorf("%q: %s is %s", words, l, c)
			}
		}
		for _, s := range out.Seen {
			if s.Refused() {
				t.Errorf("%q: the route is marked refused: %+v", words, s)
			}
		}
	}
}

// TestNoPostmaster: a domain need not have one. Few that are gone are believed; many,
// and nobody taken, are a broken host, unless its operator takes others.
func TestNoPostmaster(t *testing.T) {
	for _, c := range []struct {
		gone  int
		takes bool
		words string
		want  string
	}{{1, false, "550 5.1.1 user unknown", "mailbox.absent"}, {1, false, "550 5.4.1 Recipient address rejected: Access denied", "mailbox.absent"},
		{6, false, "550 5.1.1 user unknown", "mailbox.unclear"}, {6, true, "550 5.1.1 user unknown", "mailbox.absent"}} {
		h := &host{rcpt: func(string, int) string { return c.words }}
		var locals []string
		for i := range c.gone {
			locals = append(locals, fmt.Sprintf("gone%d", i))
		}
		d := domain([]string{first}, locals...)
		d.Takes = c.takes
		if got, _ := ask(t, prober(hosts{first + ":25": h}), d); got["gone0"] != c.want {
			t.Errorf("%+v: %v", c, got)
		}
	}
}

// TestAHostThatBrokeLater: that it took others in an earlier visit does not make it well
// now; refusals of several visits since then count together.
func TestAHostThatBrokeLater(t *testing.T) {
	h := &host{rcpt: func(string, int) string { return "550 5.1.1 user unknown" }}
	for tookNone, want := range map[int]string{0: "mailbox.absent", 4: "mailbox.unclear"} {
		d := domain([]string{first}, "gone1", "gone2")
		d.Acceptances = remembered(AcceptsKnown, time.Hour)
		d.Acceptances[0].ListedTaken, d.Acceptances[0].TookNone = 30, tookNone
		got, out := ask(t, prober(hosts{first + ":25": h}), d)
		if now := acceptance(out); got["gone1"] != want || now.TookNone != tookNone+2 || now.ListedTaken != 30 {
			t.Errorf("after %d refusals: %v, %+v", tookNone, got, now)
		}
	}
	d := domain([]string{first}, "gone1", "gone2", "gone3", "gone4", "gone5")
	d.Acceptances = remembered(AcceptsKnown, time.Hour)
	d.Acceptances[0].ListedTaken = 30
	if got, _ := ask(t, prober(hosts{first + ":25": h}), d); got["gone1"] != "mailbox.unclear" {
		t.Errorf("five refused at once by a host that took others before: %v", got)
	}
}

// TestEqualExchangers: what is known of one says nothing of another of the same
// preference, and does not stand in its way.
func TestEqualExchangers(t *testing.T) {
	d := domain([]string{second}, "here1", "gone1")
	d.Exchangers[0].Host = "mx2.h.example"
	d.Acceptances = remembered(AcceptsAny, time.Minute) // of mx1
	got, out := ask(t, prober(hosts{second + ":25": {rcpt: honest}}), d)
	if got["here1"] != "mailbox.accepted" || got["gone1"] != "mailbox.absent" || acceptance(out).Exchanger != "mx2.h.example" {
		t.Errorf("%v, %+v", got, out.Acceptances)
	}
}

// TestFourDeadAddressesHideNoOther: of an exchanger only some addresses are tried.
func TestFourDeadAddressesHideNoOther(t *testing.T) {
	d := domain([]string{first, second}, "here1")
	for i := range 4 {
		d.Exchangers[0].Addrs = append(d.Exchangers[0].Addrs, netip.AddrFrom4([4]byte{192, 88, 99, byte(10 + i)}))
	}
	if got, _ := ask(t, prober(hosts{second + ":25": {rcpt: honest}}), d); got["here1"] != "mailbox.accepted" {
		t.Errorf("%v", got)
	}
}

// TestPatienceGrows: a host that takes long to refuse is silent in the first round and
// heard in a later one.
func TestPatienceGrows(t *testing.T) {
	h := &host{rcpt: func(m string, _ int) string {
		if !exists(m) {
			time.Sleep(500 * time.Millisecond)
		}
		return honest(m, 0)
	}}
	p, d := prober(hosts{first + ":25": h}), domain([]string{first}, "gone1")
	got, out := ask(t, p, d)
	if got["gone1"] != "exchanger.silent again" {
		t.Fatalf("round 1: %v", got)
	}
	d.Questions = postponed(out)
	if again := p.Probe(t.Context(), Parcel{Patient: true, Domains: []Domain{d}}); len(again.Results) != 1 || again.Results[0].Verdict.Cause != finding.MailboxAbsent {
		t.Errorf("round 2: %+v", again)
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
	before := acceptance(out)
	d.Acceptances, d.Questions = out.Acceptances, postponed(out)
	h.greeting = "421 4.7.0 Too many connections from your address"
	if full := p.Probe(t.Context(), Parcel{Lanes: 2, Domains: []Domain{d}}); len(full.Acceptances) != 0 {
		t.Errorf("a host without room taught something: %+v", full.Acceptances)
	}
	h.greeting = ""
	if got, out = ask(t, p, d); got["here1"] != "mailbox.accepted" || out.Results[0].Rounds != 1 || len(out.Results[0].Asked) != 2 || acceptance(out).MadeUp[0].Mailbox != before.MadeUp[0].Mailbox {
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
	if most > p.Limits.Refusals+atTheEnd || h.sessions < 5 {
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
	for cause, rounds := range map[finding.Cause]int{finding.ExchangerUnreachable: 1, finding.ExchangerSilent: 2, finding.ExchangerBlocksUs: 1, finding.ExchangerPostponed: 9} {
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

// TestRoundTripsOfOne: whoever waits for a single mailbox of a known domain waits for EHLO, for MAIL with the question,
// and for a made-up mailbox and QUIT together, and no longer.
func TestRoundTripsOfOne(t *testing.T) {
	n := &turns{hosts: hosts{first + ":25": {rcpt: honest}}}
	p := New(n, smtp.Identity{Name: "verify.fernhollow.example", Sender: "check@fernhollow.example"})
	many := make([]string, 40)
	for i := range many {
		many[i] = fmt.Sprintf("%s%d", []string{"here", "gone"}[i%2], i)
	}
	known := p.Probe(t.Context(), Parcel{Domains: []Domain{domain([]string{first}, many...)}}).Acceptances
	for range 40 { // where the made-up one goes is drawn
		n.taken = 0
		d := domain([]string{first}, "here77")
		d.Acceptances = known
		if _, out := ask(t, p, d); len(out.Results) != 1 || n.taken != 3 {
			t.Fatalf("%d results in %d round trips: %+v", len(out.Results), n.taken, out.Conversations)
		}
	}
}
