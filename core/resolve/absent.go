package resolve

import (
	"context"
	"slices"
	"time"

	"github.com/miekg/dns"
)

// An NXDOMAIN ends the verification of all addresses of a domain, and some resolvers
// say it of domains that they are told to hide. So it is believed only of two, or of one
// that has shown that it finds what there is.

// sure returns an answer as it may be believed: that a name does not exist, only if a
// second resolver says so, too, or the only one is proven. What was asked for that is
// noted.
func (r *Resolver) sure(ctx context.Context, d *Domain, said Answer, qtype uint16) Answer {
	if said.Status != StatusAbsent {
		return said
	}
	for _, other := range r.others(said.Server) {
		a := r.queryAt(ctx, said.Name, qtype, other)
		if a.Status == StatusFailed {
			continue
		}
		if a.Status != StatusAbsent {
			a.Problem = "it contradicts " + said.Server + ", which says that there is no such name"
			r.pool.contradicted(said.Server, said.Name)
			said.Status = StatusFailed
		}
		d.note(a)
		return said
	}
	if !r.proven(ctx, said.Server) {
		said.Status = StatusFailed
		d.Answers[len(d.Answers)-1].Problem = "not trusted: it is the only resolver that answers, and it does not find the reference domains either"
	}
	return said
}

// others lists the resolvers in use but one.
func (r *Resolver) others(server string) []string {
	return slices.DeleteFunc(r.pool.order(r.now()), func(s string) bool { return s == server })
}

// queryAt asks one resolver, past what is remembered.
func (r *Resolver) queryAt(ctx context.Context, name string, qtype uint16, server string) Answer {
	start := r.now()
	a := r.followAt(ctx, name, qtype, []string{server})
	a.Name, a.Type, a.At = name, dns.TypeToString[qtype], start
	a.TookMS = float64(r.now().Sub(start).Microseconds()) / 1000
	return a
}

// provenFor is for how long a resolver counts as proven.
const provenFor = 10 * time.Minute

// proven reports whether a resolver finds a domain that is known to exist. Where none
// is known it is believed.
func (r *Resolver) proven(ctx context.Context, server string) bool {
	reference, done := r.pool.provenBy(server, r.now())
	if len(reference) == 0 || done {
		return true
	}
	for _, name := range reference {
		if a := r.queryAt(ctx, name, dns.TypeMX, server); a.Status == StatusFound || a.Status == StatusEmpty {
			r.pool.prove(server, r.now())
			return true
		}
	}
	return false
}
