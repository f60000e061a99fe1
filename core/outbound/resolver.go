package outbound

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"

	"github.com/miekg/dns"

	"varnet/core/resolve"
)

// TestResolver asks one resolver about a domain that exists and about names
// that cannot exist.
func (t *Tester) TestResolver(ctx context.Context, server string) (o Outcome) {
	r, err := resolve.New([]string{server}, t.AllowPrivate)
	if err != nil {
		o.Add(Bad, "Give it as host:port.", "%s.", err)
		return o
	}
	known := r.Records(ctx, t.Reference[0], dns.TypeMX)
	switch known.Status {
	case resolve.StatusFailed:
		o.Add(Bad, "Look whether it runs and lets this host ask, or remove it.", "%s gave no answer about %s: %s.", server, t.Reference[0], known.Problem)
		return o
	case resolve.StatusFound:
		o.TookMS = known.TookMS
		o.Add(Good, "", "It answered about %s in %.1f ms.", t.Reference[0], known.TookMS)
	default:
		o.Add(Reservation, "Ask it about a domain you know; if that fails too, remove it.", "It knows no mail host of %s, which other resolvers do.", t.Reference[0])
	}
	ending := t.Reference[0][strings.LastIndexByte(t.Reference[0], '.')+1:]
	for _, end := range []string{"invalid", ending} { // RFC 6761 section 6.4 for the first
		name := fmt.Sprintf("no-such-name-%08x.%s", rand.Uint32(), end)
		a := r.Records(ctx, name, dns.TypeA)
		if a.Status == resolve.StatusFound {
			o.Add(Bad, "Remove it; name a resolver that tells the truth, best one of your own.",
				"It lies: it says that %s, which does not exist, is at %s. Dead domains would look alive.", name, a.Addrs[0])
			return o
		}
	}
	o.Add(Good, "", "Answers honestly about names that do not exist.")
	return o
}
