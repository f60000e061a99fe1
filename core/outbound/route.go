package outbound

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/route"
	"varnet/core/smtp"
)

// Tester looks at the parts.
type Tester struct {
	// Resolver looks up what the tests of routes and identities need.
	Resolver *resolve.Resolver
	// Dialer opens connections by a route.
	Dialer func(route.Route) probe.Dialer
	// Location is where this process is. Elsewhere has a direct route tested at another one; nil: it
	// cannot be.
	Location  string
	Elsewhere func(context.Context, route.Route) Outcome
	// Identity greets the mail hosts.
	Identity smtp.Identity
	// Port is that of the mail hosts: 25, but for the practice internet.
	Port int
	// AllowPrivate takes private addresses for public ones.
	AllowPrivate bool
	// Reference are domains whose mail hosts are known to be well: one whose
	// host greets us is enough.
	Reference []string
}

// DefaultReference are large mail services, whose hosts greet anybody.
func DefaultReference() []string { return []string{"gmail.com", "gmx.net", "yahoo.com"} }

// greetingPatience bounds the test of one route at one host.
const greetingPatience = 10 * time.Second

// greeted is what a reference host did.
type greeted struct {
	host    string
	err     error
	failure *smtp.Failure // after the connection
	took    time.Duration
	public  netip.Addr
}

// TestRoute goes by the route to the mail hosts of the reference domains and
// waits for their greeting. Nobody is asked about a mailbox.
func (t *Tester) TestRoute(ctx context.Context, r route.Route) (o Outcome) {
	if r.Kind == route.Direct && r.Location != t.Location {
		if t.Elsewhere == nil || r.Location == "" {
			o.Add(Bad, "Test it from the service.", "This process is not at the location of the route.")
			return o
		}
		return t.Elsewhere(ctx, r)
	}
	hosts := t.references(ctx)
	if len(hosts) == 0 {
		o.Add(Bad, "Test the resolvers first.", "The mail hosts of %s could not be found, so the way to port %d was not tested.",
			strings.Join(t.Reference, ", "), t.Port)
		return o
	}
	found := make(chan greeted, len(hosts))
	for _, h := range hosts {
		go func() { found <- t.greet(ctx, r, h) }()
	}
	var best *greeted
	for range hosts {
		g := <-found
		if best == nil || g.rank() > best.rank() {
			best = &g
		}
	}
	t.judge(&o, r, best)
	return o
}

func (g *greeted) rank() int {
	switch {
	case g.err == nil && g.failure == nil:
		return 3
	case g.err == nil && g.failure.Trouble == smtp.Refused:
		return 2
	case g.err == nil:
		return 1
	}
	return 0
}

// references returns one exchanger for each reference domain.
func (t *Tester) references(ctx context.Context) (hosts []resolve.Exchanger) {
	for _, d := range t.Reference {
		for _, x := range t.Resolver.Lookup(ctx, d).Exchangers {
			if len(x.Addrs) > 0 {
				hosts = append(hosts, x)
				break
			}
		}
	}
	return hosts
}

func (t *Tester) greet(ctx context.Context, r route.Route, x resolve.Exchanger) greeted {
	ctx, cancel := context.WithTimeout(ctx, greetingPatience)
	defer cancel()
	g, start := greeted{host: x.Host}, time.Now()
	conn, err := t.Dialer(r).DialContext(ctx, "tcp", net.JoinHostPort(x.Addrs[0].String(), strconv.Itoa(t.Port)))
	if err != nil {
		g.err = err
		return g
	}
	l := smtp.DefaultLimits()
	l.Waits = l.Waits.All(greetingPatience - time.Second)
	s, err := smtp.Open(ctx, conn, t.Identity, l)
	g.took = time.Since(start)
	if !errors.As(err, &g.failure) {
		s.Close()
	}
	g.public = sees(s.Lines())
	if g.failure != nil && !g.public.IsValid() {
		g.public = firstAddress(g.failure.Reply.Text()) // a refusal often names whom it refuses
	}
	return g
}

// sees finds the address that the host says it sees, in the first line of its
// answer to EHLO, where many hosts give it in brackets.
func sees(lines []smtp.Line) netip.Addr {
	for i, l := range lines {
		if l.Host || !strings.HasPrefix(l.Text, "EHLO ") || i+1 == len(lines) {
			continue
		}
		return firstAddress(lines[i+1].Text)
	}
	return netip.Addr{}
}

// firstAddress finds the first IP address in a text.
func firstAddress(text string) netip.Addr {
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune("[]()<> ,;", r) }) {
		word = strings.TrimPrefix(strings.TrimPrefix(word, "IPv6:"), "ipv6:")
		if ip, err := netip.ParseAddr(word); err == nil {
			return ip
		}
	}
	return netip.Addr{}
}

func (t *Tester) judge(o *Outcome, r route.Route, g *greeted) {
	var atRoute *route.Failure
	port := fmt.Sprintf("port %d", t.Port)
	switch {
	case errors.As(g.err, &atRoute):
		o.Add(Bad, atRoute.Do, "%s", atRoute.Says)
	case g.err != nil:
		do := "Ask the provider of this host to open outgoing " + port + ", or put a relay on a host that has it (varnet relay), and add its line as a route."
		if r.Kind != route.Direct {
			do = "Ask whoever runs it to open outgoing " + port + ", or remove it."
		}
		o.Add(Bad, do, "%s seems closed this way: no connection to %s could be made (%s).", strings.ToUpper(port[:1])+port[1:], g.host, reason(g.err))
	case g.failure == nil:
		o.TookMS = float64(g.took.Microseconds()) / 1000
		o.Add(Good, "", "%s greeted us on %s after %.1f ms.", g.host, port, o.TookMS)
	case g.failure.Trouble == smtp.Refused:
		o.Add(Reservation, "Look at the reverse name, the sender and the blocklists below; until then use another route.",
			"%s takes connections and refuses us: “%s”.", g.host, g.failure.Reply)
	default:
		o.Add(Bad, "Something on the way takes connections to "+port+" and does not pass them on; ask the provider, or use a relay.",
			"A connection to %s was made, but no greeting came: %v.", g.host, g.failure.Err)
	}
	switch {
	case r.Public.IsValid():
		o.Public = r.Public.String()
	case g.public.IsValid():
		o.Public = g.public.String()
	}
}

// reason is the last part of a network error, which says what it is.
func reason(err error) string {
	if errors.Is(err, context.DeadlineExceeded) {
		return "no answer in time"
	}
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	return err.Error()
}
