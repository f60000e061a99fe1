package outbound

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/route"
	"varnet/core/smtp"
)

// names is a zone in master-file form. Names under lying.test exist
// whatever they are, where the server lies.
const names = `
seedlibrary.test.                 MX 10 mx1.seedlibrary.test.
mx1.seedlibrary.test.             A 127.0.0.1
verify.fernhollow.test.           A 192.0.2.7
other.fernhollow.test.            A 192.0.2.9
fernhollow.test.                  MX 10 mx1.seedlibrary.test.
fernhollow.test.                  TXT "v=spf1 ip4:192.0.2.7 -all"
verify.fernhollow.test.           TXT "v=spf1 ip4:192.0.2.7 -all"
nomail.test.                      MX 0 .
broken-spf.test.                  MX 10 mx1.seedlibrary.test.
broken-spf.test.                  TXT "v=spf1 ip4:not-an-address -all"
no-spf.test.                      MX 10 mx1.seedlibrary.test.
returns.fernhollow.test.          MX 10 mx1.seedlibrary.test.
returns.fernhollow.test.          TXT "v=spf1 ip4:192.0.2.7 -all"
varnet._domainkey.fernhollow.test. TXT "v=DKIM1; k=rsa; " "p=MIIB IjAN"
_dmarc.fernhollow.test.           TXT "v=DMARC1; p=reject"
7.2.0.192.in-addr.arpa.           PTR verify.fernhollow.test.
8.2.0.192.in-addr.arpa.           PTR elsewhere.fernhollow.test.
9.2.0.192.in-addr.arpa.           PTR other.fernhollow.test.
2.0.0.127.hedge.test.             A 127.0.0.2
8.2.0.192.hedge.test.             A 127.0.0.2
8.2.0.192.hedge.test.             TXT "asked too much on Tuesday"
2.0.0.127.everybody.test.         A 127.0.0.2
1.0.0.127.everybody.test.         A 127.0.0.2
`

// nameServer answers from names on loopback.
func nameServer(t *testing.T, lies bool) string {
	t.Helper()
	records := map[string][]dns.RR{}
	for line := range strings.SplitSeq(strings.TrimSpace(names), "\n") {
		name, rest, _ := strings.Cut(line, " ")
		rr, err := dns.NewRR(name + " 300 IN " + strings.TrimSpace(rest))
		if err != nil {
			t.Fatal(err)
		}
		records[name] = append(records[name], rr)
	}
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &dns.Server{PacketConn: conn, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		name := strings.ToLower(q.Question[0].Name)
		for _, rr := range records[name] {
			if rr.Header().Rrtype == q.Question[0].Qtype {
				m.Answer = append(m.Answer, rr)
			}
		}
		if _, known := records[name]; !known && lies && q.Question[0].Qtype == dns.TypeA {
			rr, _ := dns.NewRR(name + " 60 IN A 203.0.113.80")
			m.Answer = append(m.Answer, rr)
		} else if !known {
			m.Rcode = dns.RcodeNameError
		}
		_ = w.WriteMsg(m)
	})}
	go func() { _ = s.ActivateAndServe() }()
	t.Cleanup(func() { _ = s.Shutdown() })
	return conn.LocalAddr().String()
}

// host answers on loopback with a greeting, "" for none, and sees us at an address.
func host(t *testing.T, greeting, sees string) (port int) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				if greeting == "" {
					return
				}
				fmt.Fprint(conn, greeting+"\r\n")
				for in := bufio.NewScanner(conn); in.Scan(); {
					if strings.HasPrefix(in.Text(), "EHLO") {
						fmt.Fprintf(conn, "250 mx1.seedlibrary.test sees [%s]\r\n", sees)
						continue
					}
					fmt.Fprint(conn, "250 ok\r\n")
				}
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

func tester(t *testing.T, server string, port int) *Tester {
	t.Helper()
	r, err := resolve.New([]string{server}, true)
	if err != nil {
		t.Fatal(err)
	}
	return &Tester{Resolver: r, Port: port, AllowPrivate: true, Reference: []string{"seedlibrary.test"},
		Dialer:   func(route.Route) probe.Dialer { return probe.DirectDialer(true) },
		Identity: smtp.Identity{Name: "verify.fernhollow.test", Sender: "check@fernhollow.test"}}
}

// holds reports whether an outcome has a grade and says something.
func holds(t *testing.T, what string, o Outcome, g Grade, says string) {
	t.Helper()
	var all []string
	for _, c := range o.Checks {
		all = append(all, c.Says)
		if c.Grade != Good && (c.Do == "" || !strings.HasSuffix(c.Do, ".")) {
			t.Errorf("%s: %q does not say what to do: %q", what, c.Says, c.Do)
		}
	}
	if o.Grade() != g || !strings.Contains(strings.Join(all, "\n"), says) {
		t.Errorf("%s: %s, %q; want %s, %q", what, o.Grade(), all, g, says)
	}
}

func within(t *testing.T) context.Context {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	t.Cleanup(cancel)
	return ctx
}

func TestResolvers(t *testing.T) {
	silent, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = silent.Close() })
	truthful, liar := nameServer(t, false), nameServer(t, true)
	tt := tester(t, truthful, 25)
	holds(t, "a truthful one", tt.TestResolver(within(t), truthful), Good, "do not exist")
	holds(t, "one that lies", tt.TestResolver(within(t), liar), Bad, "It lies: it says that no-such-name-")
	holds(t, "one that is silent", tt.TestResolver(within(t), silent.LocalAddr().String()), Bad, "gave no answer about seedlibrary.test")
	holds(t, "none at all", tt.TestResolver(within(t), "no resolver"), Bad, "no resolver")
	tt.Reference = []string{"unheard-of.test"}
	holds(t, "one that does not know the reference", tt.TestResolver(within(t), truthful), Reservation, "knows no mail host of unheard-of.test")
}

func TestRoutes(t *testing.T) {
	server := nameServer(t, false)
	const nobody = 1 // a port that was closed just now might be given to the next listener
	for _, c := range []struct {
		what, line string
		port       int
		grade      Grade
		says       string
		public     string
	}{
		{"one that works", "direct", host(t, "220 mx1.seedlibrary.test", "192.0.2.7"), Good, "greeted us on port", "192.0.2.7"},
		{"one whose address is given", "direct?public=192.0.2.99", host(t, "220 mx1.seedlibrary.test", "192.0.2.7"), Good, "greeted us", "192.0.2.99"},
		{"one that is refused", "direct", host(t, "554 5.7.1 client host [192.0.2.8] is blocked", ""), Reservation, "takes connections and refuses us: “554 5.7.1", "192.0.2.8"},
		{"a closed port", "direct", nobody, Bad, "seems closed this way", ""},
		{"something that swallows connections", "direct", host(t, "", ""), Bad, "but no greeting came", ""},
	} {
		r, err := route.Parse(c.line)
		if err != nil {
			t.Fatal(err)
		}
		o := tester(t, server, c.port).TestRoute(within(t), r)
		holds(t, c.what, o, c.grade, c.says)
		if o.Public != c.public {
			t.Errorf("%s: seen as %q; want %q", c.what, o.Public, c.public)
		}
	}
	tt := tester(t, server, nobody)
	tt.Reference = []string{"unheard-of.test"}
	holds(t, "nobody to ask", tt.TestRoute(within(t), route.Route{Kind: route.Direct}), Bad, "could not be found")
}

func TestIdentities(t *testing.T) {
	tt := tester(t, nameServer(t, false), 25)
	seen := func(addrs ...string) (out []Seen) {
		for _, a := range addrs {
			out = append(out, Seen{Public: netip.MustParseAddr(a)})
		}
		return out
	}
	for _, c := range []struct {
		what, name, sender string
		seen               []Seen
		grade              Grade
		says               []string
	}{
		{"all as it should be", "verify.fernhollow.test", "check@fernhollow.test", seen("192.0.2.7"), Good,
			[]string{"resolves to 192.0.2.7", "leads back to it", "fernhollow.test takes mail", "The SPF record of fernhollow.test allows 192.0.2.7"}},
		{"the empty sender", "verify.fernhollow.test", "", seen("192.0.2.7"), Good, []string{"asks with the empty sender", "The SPF record of verify.fernhollow.test allows"}},
		{"a name that does not resolve", "unheard-of.fernhollow.test", "check@fernhollow.test", seen("192.0.2.7"), Reservation,
			[]string{"does not resolve", "is verify.fernhollow.test and not unheard-of.fernhollow.test"}},
		{"another reverse name", "verify.fernhollow.test", "check@fernhollow.test", seen("192.0.2.9"), Reservation, []string{"is other.fernhollow.test and not verify.fernhollow.test", "does not allow 192.0.2.9"}},
		{"a reverse name that leads nowhere", "verify.fernhollow.test", "check@fernhollow.test", seen("192.0.2.8"), Reservation, []string{"does not lead back to it"}},
		{"no reverse name", "verify.fernhollow.test", "check@fernhollow.test", seen("192.0.2.10"), Reservation, []string{"has no reverse name"}},
		{"a sender without mail", "verify.fernhollow.test", "check@nomail.test", seen("192.0.2.7"), Reservation, []string{"nomail.test takes no mail"}},
		{"no SPF record", "verify.fernhollow.test", "check@no-spf.test", seen("192.0.2.7"), Reservation, []string{"no-spf.test has no SPF record"}},
		{"a broken SPF record", "verify.fernhollow.test", "check@broken-spf.test", seen("192.0.2.7"), Reservation, []string{"The SPF record of broken-spf.test is broken"}},
		{"nobody says what it sees", "verify.fernhollow.test", "check@fernhollow.test", nil, Reservation, []string{"No mail host said which address"}},
	} {
		o := tt.TestIdentity(within(t), smtp.Identity{Name: c.name, Sender: c.sender}, c.seen)
		for _, says := range c.says {
			holds(t, c.what, o, c.grade, says)
		}
	}
	several := tt.TestIdentity(within(t), smtp.Identity{Name: "verify.fernhollow.test", Sender: "check@fernhollow.test"}, seen("192.0.2.7", "192.0.2.9"))
	told := false
	for _, c := range several.Checks {
		told = told || strings.Contains(c.Do, "add the route again with ?helo=other.fernhollow.test")
	}
	if !told {
		t.Errorf("of two addresses with names of their own: %+v", several.Checks)
	}
}

// TestLetterSenders: whether hosts can tell that real letters come from whom they say.
func TestLetterSenders(t *testing.T) {
	tt := tester(t, nameServer(t, false), 25)
	servers := func(addrs ...string) (out []netip.Addr) {
		for _, a := range addrs {
			out = append(out, netip.MustParseAddr(a))
		}
		return out
	}
	ours, away := "b+1-1-x@returns.fernhollow.test", "b+1-1-x@no-spf.test"
	key := "v=DKIM1; k=rsa; p=MIIBIjAN"
	for _, c := range []struct {
		what  string
		s     LetterSender
		grade Grade
		says  []string
	}{
		{"all as it should be", LetterSender{"fernhollow.test", ours, servers("192.0.2.7"), "varnet", key}, Good,
			[]string{"allows 192.0.2.7", "The DKIM key is published", "The signature is aligned", "p=reject", "takes mail"}},
		{"without a key, but aligned", LetterSender{"fernhollow.test", ours, servers("192.0.2.7"), "", ""}, Reservation, []string{"The return addresses are aligned"}},
		{"another key than the published one", LetterSender{"fernhollow.test", ours, servers("192.0.2.7"), "varnet", "v=DKIM1; p=other"}, Bad, []string{"is not published", "The return addresses are aligned"}},
		{"a server that SPF does not know", LetterSender{"fernhollow.test", ours, servers("192.0.2.7", "192.0.2.66"), "varnet", key}, Bad, []string{"does not allow 192.0.2.66", "The signature is aligned"}},
		{"return addresses elsewhere, and no key", LetterSender{"fernhollow.test", away, servers("192.0.2.7"), "", ""}, Bad, []string{"Nothing proves", "no-spf.test has no SPF record"}},
		{"nobody knows from where", LetterSender{"fernhollow.test", ours, nil, "varnet", key}, Bad, []string{"from which addresses"}},
		{"bounces that cannot arrive", LetterSender{"fernhollow.test", "b@nomail.test", servers("192.0.2.7"), "varnet", key}, Bad, []string{"nomail.test takes no mail"}},
		{"no rule", LetterSender{"seedlibrary.test", ours, servers("192.0.2.7"), "varnet", key}, Bad, []string{"has no DMARC record", "Nothing proves"}},
	} {
		o := tt.TestLetterSender(within(t), c.s)
		for _, says := range c.says {
			holds(t, c.what, o, c.grade, says)
		}
	}
}

func TestBlocklists(t *testing.T) {
	tt := tester(t, nameServer(t, false), 25)
	holds(t, "a good one", tt.TestBlocklist(within(t), "hedge.test"), Good, "answers as a blocklist should")
	holds(t, "one that lists everybody", tt.TestBlocklist(within(t), "everybody.test"), Reservation, "holds what no blocklist may hold")
	holds(t, "one that is none", tt.TestBlocklist(within(t), "fernhollow.test"), Reservation, "does not hold its own test entry")
	listed := Outcome{Public: "192.0.2.8"}
	tt.TestListed(within(t), &listed, []string{"hedge.test"})
	holds(t, "an address that is listed", listed, Reservation, "192.0.2.8 is on the blocklist hedge.test: “asked too much on Tuesday”")
	free := Outcome{Public: "192.0.2.7"}
	tt.TestListed(within(t), &free, []string{"hedge.test"})
	holds(t, "one that is not", free, Good, "is not on the blocklist")
	unknown := Outcome{}
	if tt.TestListed(within(t), &unknown, []string{"hedge.test"}); len(unknown.Checks) != 0 {
		t.Errorf("of an unknown address it says %+v", unknown.Checks)
	}
}

// TestAllTogether looks at all of outbound: identities are held against the
// addresses that the routes were seen with.
func TestAllTogether(t *testing.T) {
	server := nameServer(t, false)
	tt := tester(t, server, host(t, "220 mx1.seedlibrary.test", "192.0.2.7"))
	var parts []Part
	for kind, line := range map[Kind]string{Resolver: server, Route: "direct", Identity: "verify.fernhollow.test check@fernhollow.test", Blocklist: "hedge.test"} {
		p, err := Parse(kind, line)
		if err != nil {
			t.Fatal(err)
		}
		parts = append(parts, p)
	}
	tested := tt.All(within(t), parts)
	if got := Judge(tested); got.State != Ready || got.Next != "" {
		for _, p := range tested {
			t.Logf("%s %s: %+v", p.Kind, p.Name, p.Checks)
		}
		t.Errorf("%+v", got)
	}
}
