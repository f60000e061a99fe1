package resolve

import (
	"cmp"
	"fmt"
	"slices"
	"sync"
	"time"
)

// Health is how a resolver has done since it was taken into use.
type Health struct {
	Server string
	Asked  int64
	Failed int64
	// MeanMS is the mean time of an answer, in milliseconds.
	MeanMS float64
	// Contradicted counts the domains that it said do not exist and another resolver
	// found; Hidden is the last of them.
	Contradicted int64
	Hidden       string
	// Says tells of contradictions in a sentence.
	Says string
	// RestUntil is until when it is left alone, for it did not answer.
	RestUntil time.Time

	inRow       int
	total       time.Duration
	provenUntil time.Time
}

// restsAfter is after how many questions in a row without an answer a resolver
// is left alone for rest; while all are, all are asked.
const (
	restsAfter = 3
	rest       = 20 * time.Second
)

// pool is the resolvers with their health.
type pool struct {
	mu      sync.Mutex
	servers []*Health
	turn    int
	// reference are domains that are known to exist.
	reference []string
}

// Use replaces the resolvers; what is known of those that stay is kept.
func (r *Resolver) Use(servers []string) {
	p := &r.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	var next []*Health
	for _, s := range servers {
		i := slices.IndexFunc(p.servers, func(h *Health) bool { return h.Server == s })
		if i < 0 {
			next = append(next, &Health{Server: s})
		} else {
			next = append(next, p.servers[i])
		}
	}
	p.servers = next
}

// Servers lists the resolvers, as host:port.
func (r *Resolver) Servers() (out []string) {
	for _, h := range r.Health() {
		out = append(out, h.Server)
	}
	return out
}

// Health tells how each resolver does.
func (r *Resolver) Health() (out []Health) {
	p := &r.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, h := range p.servers {
		one := *h
		if answered := h.Asked - h.Failed; answered > 0 {
			one.MeanMS = float64(h.total.Microseconds()) / 1000 / float64(answered)
		}
		if h.Contradicted > 0 {
			one.Says = fmt.Sprintf("It answered that %d names do not exist which another resolver finds (the last: %s). Their domains stay undecided; remove the resolver that is wrong.", h.Contradicted, h.Hidden)
		}
		out = append(out, one)
	}
	return out
}

// with calls do with what is known of a server.
func (p *pool) with(server string, do func(*Health)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, h := range p.servers {
		if h.Server == server {
			do(h)
		}
	}
}

// contradicted notes a domain that a server said does not exist and another found.
func (p *pool) contradicted(server, domain string) {
	p.with(server, func(h *Health) { h.Contradicted, h.Hidden = h.Contradicted+1, domain })
}

func (p *pool) prove(server string, now time.Time) {
	p.with(server, func(h *Health) { h.provenUntil = now.Add(provenFor) })
}

// provenBy returns the domains that prove a resolver, and whether it is proven now.
func (p *pool) provenBy(server string, now time.Time) (reference []string, done bool) {
	p.with(server, func(h *Health) { reference, done = p.reference, now.Before(h.provenUntil) })
	return reference, done
}

// Know names domains that are known to exist: a resolver that is the only one must find
// one of them before it is believed that a domain does not.
func (r *Resolver) Know(domains []string) {
	r.pool.mu.Lock()
	defer r.pool.mu.Unlock()
	r.pool.reference = domains
}

// order returns the resolvers in the order in which they are asked: in turn,
// those at rest last.
func (p *pool) order(now time.Time) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.turn++
	n := len(p.servers)
	ranked := make([]*Health, n)
	for i := range n {
		ranked[i] = p.servers[(p.turn+i)%n]
	}
	slices.SortStableFunc(ranked, func(a, b *Health) int {
		return cmp.Compare(boolInt(now.Before(a.RestUntil)), boolInt(now.Before(b.RestUntil)))
	})
	out := make([]string, n)
	for i, h := range ranked {
		out[i] = h.Server
	}
	return out
}

// learn takes in whether the server answered.
func (p *pool) learn(server string, answered bool, start, now time.Time) {
	p.with(server, func(h *Health) {
		h.Asked++
		if answered {
			h.inRow, h.RestUntil = 0, time.Time{}
			h.total += now.Sub(start)
			return
		}
		h.Failed++
		if h.inRow++; h.inRow >= restsAfter {
			h.RestUntil = now.Add(rest)
		}
	})
}
