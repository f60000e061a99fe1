package pace

import (
	"context"
	"errors"
	"net/netip"
	"strconv"
	"sync"
	"time"
)

// netShare is how many times as many sessions the neighbourhood of an address may see
// as the address: hosts that stand side by side are often one.
const netShare = 4

// DefaultUnknown is how many recipients that it refuses an address is asked about in a
// minute, unless somebody says otherwise: one in a quarter of a second, where a list is
// bad through and through.
const DefaultUnknown = 240

// Scope is whom a bound of sessions holds for.
type Scope struct {
	Name string // by route and address, or by route and neighbourhood
	Most int    // sessions at a time
}

// Scopes returns the bounds that a session with a host falls under, where the host may
// see as many as most: its address, and its /24 or /64.
func Scopes(host netip.Addr, route int64, most int) [2]Scope {
	bits := 24
	if host = host.Unmap(); host.Is6() {
		bits = 64
	}
	near, _ := host.Prefix(bits)
	by := strconv.FormatInt(route, 10) + " "
	return [2]Scope{{by + host.String(), most}, {by + near.String(), most * netShare}}
}

// Shared holds places against those of other workers. It may be slow.
type Shared interface {
	// Take takes a place of both scopes; ok is false where one of them has none, and none is taken then. Who is
	// urgent goes before all others who wait to be told.
	Take(ctx context.Context, scopes [2]Scope, urgent bool) (places [2]int, ok bool, err error)
	// Free gives places back.
	Free(scopes [2]Scope, places [2]int)
}

// Places bounds the sessions of a process that addresses and their neighbourhoods see
// at a time, and the unknown recipients they are asked about in a minute. With Shared
// the bounds hold over all processes.
type Places struct {
	// Unknown is how many refused recipients an address is asked about in a minute;
	// 0: any number.
	Unknown int
	Shared  Shared
	// Waits is called when somebody who is urgent begins to wait, and what it returns when they no
	// longer do; nil: nothing is.
	Waits func(context.Context) (ended func())

	mu     sync.Mutex
	scopes map[string]*scope
	freed  chan struct{} // closed and made anew when a place is given back
	// urgentAt is when somebody urgent took a place last, at any host.
	urgentAt time.Time
}

// While somebody urgent comes now and then, others leave them one place of a host that has several, and one more where
// that was lately not enough.
const (
	keptFor     = 15 * time.Second
	keptFrom    = 3 // places
	keptTwoFrom = 4
)

// left is how many of the places of a scope those may have who are not urgent.
func (p *Places) left(s *scope, of Scope, now time.Time) int {
	kept := 0
	if of.Most >= keptFrom && now.Sub(p.urgentAt) < keptFor {
		kept = 1
	}
	if of.Most >= keptTwoFrom && now.Sub(s.shortAt) < keptFor {
		kept = 2
	}
	return of.Most - max(kept, s.wanted)
}

type scope struct {
	held int // places, those included that others are still asked about
	// owed is how many unknown recipients were asked about beyond what time has
	// allowed since, at asked.
	owed float64
	at   time.Time
	// restUntil is until when the address has had enough of us.
	restUntil time.Time
	// wanted is how many wait for a place who are urgent, and leaving how many sessions end for them.
	wanted, leaving int
	// shortAt is when somebody urgent found no place last.
	shortAt time.Time
}

// Seat is a place that was taken for a session.
type Seat struct {
	places *Places
	scopes [2]Scope
	at     [2]int // the places of Shared
	others int
	leaves string // the scope in which somebody urgent has the session end; "": none
	once   sync.Once
}

// Others is how many sessions the host saw of us when this one began; no seat stands for
// a session that nothing bounds.
func (s *Seat) Others() int {
	if s == nil {
		return 0
	}
	return s.others
}

// Complained notes that the host complained of us: until it has rested, its address sees
// no new session of this process, and those that are open ask no more (Resting).
func (s *Seat) Complained(now time.Time) {
	if s == nil {
		return
	}
	s.places.mu.Lock()
	defer s.places.mu.Unlock()
	s.places.scope(s.scopes[0].Name).restUntil = now.Add(firstRest)
}

// Resting reports whether the host has complained at this or another session.
func (s *Seat) Resting(now time.Time) bool {
	if s == nil {
		return false
	}
	s.places.mu.Lock()
	defer s.places.mu.Unlock()
	return now.Before(s.places.scope(s.scopes[0].Name).restUntil)
}

// MakesRoom reports whether the session is to end soon, because somebody who is urgent waits for a place
// and there is none: one session for each of them.
func (s *Seat) MakesRoom() bool {
	if s == nil {
		return false
	}
	s.places.mu.Lock()
	defer s.places.mu.Unlock()
	for _, of := range s.scopes {
		if one := s.places.scope(of.Name); s.leaves == "" && one.wanted > one.leaving && one.held >= of.Most {
			one.leaving++
			s.leaves = of.Name
		}
	}
	return s.leaves != ""
}

// ErrResting is the error of Take at an address that has had enough of us for now.
var ErrResting = errors.New("the host has had enough of us for now")

// sharedWait is after how long it is asked again whether another worker has given a
// place back.
const sharedWait = 60 * time.Millisecond

// Take waits for a place for a session with a host by a route, which may see as many
// as most of us. Who is urgent gets the next one that is free, before all others.
func (p *Places) Take(ctx context.Context, host netip.Addr, route int64, most int, urgent bool) (*Seat, error) {
	scopes := Scopes(host, route, most)
	for waiting := false; ; {
		seat, wait, freed, err := p.try(ctx, scopes, time.Now(), urgent)
		if seat == nil && err == nil && urgent && !waiting {
			waiting = true
			defer p.want(ctx, scopes)()
			continue
		}
		if seat != nil || err != nil {
			return seat, err
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			timer.Stop()
			return nil, ctx.Err()
		case <-freed:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// try takes places of both scopes, or tells how long to wait. Nobody else waits meanwhile for what other
// processes say.
func (p *Places) try(ctx context.Context, scopes [2]Scope, now time.Time, urgent bool) (seat *Seat, wait time.Duration, freed chan struct{}, err error) {
	seat, wait, freed, err = p.reserve(scopes, now, urgent)
	if seat == nil || p.Shared == nil {
		return seat, wait, freed, err
	}
	at, ok, err := p.Shared.Take(ctx, scopes, urgent)
	if ok && err == nil {
		seat.at = at
		return seat, 0, nil, nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.leave(seat)
	return nil, p.patience(), p.freed, err
}

// reserve takes places of both scopes as far as this process knows, or tells how long to wait.
func (p *Places) reserve(scopes [2]Scope, now time.Time, urgent bool) (seat *Seat, wait time.Duration, freed chan struct{}, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.scopes == nil {
		p.scopes, p.freed = map[string]*scope{}, make(chan struct{})
	}
	if now.Before(p.scope(scopes[0].Name).restUntil) {
		return nil, 0, nil, ErrResting
	}
	if wait := p.debt(scopes[0].Name, now); wait > 0 {
		return nil, wait, nil, nil
	}
	if urgent {
		p.urgentAt = now
	}
	for _, of := range scopes {
		one, most := p.scope(of.Name), of.Most
		if !urgent {
			most = p.left(one, of, now)
		}
		if one.held >= most {
			if urgent {
				one.shortAt = now
			}
			return nil, p.patience(), p.freed, nil
		}
	}
	seat = &Seat{places: p, scopes: scopes, others: p.scope(scopes[0].Name).held}
	for _, of := range scopes {
		p.scope(of.Name).held++
	}
	return seat, 0, nil, nil
}

// want notes that somebody urgent waits for a place in both scopes, until they no longer do.
func (p *Places) want(ctx context.Context, scopes [2]Scope) (ended func()) {
	add := func(n int) {
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, s := range scopes {
			p.scope(s.Name).wanted += n
		}
	}
	add(1)
	told := func() {}
	if p.Waits != nil {
		told = p.Waits(ctx)
	}
	return func() { told(); add(-1) }
}

// patience is how long a full scope is waited for: other workers do not tell.
func (p *Places) patience() time.Duration {
	if p.Shared == nil {
		return time.Minute
	}
	return sharedWait
}

func (p *Places) scope(name string) *scope {
	s, ok := p.scopes[name]
	if !ok {
		s = &scope{}
		p.scopes[name] = s
	}
	return s
}

// debt is how long an address is left alone for the unknown recipients that it was
// asked about.
func (p *Places) debt(name string, now time.Time) time.Duration {
	s, ok := p.scopes[name]
	if !ok || p.Unknown == 0 || s.owed == 0 {
		return 0
	}
	each := time.Minute / time.Duration(p.Unknown)
	s.owed = max(0, s.owed-float64(now.Sub(s.at))/float64(each))
	if s.at = now; s.owed <= float64(p.Unknown)/4 { // so many at once offend nobody
		return 0
	}
	return time.Duration((s.owed - float64(p.Unknown)/4) * float64(each))
}

// Free gives the place back after a session in which the host refused so many
// recipients.
func (s *Seat) Free(refused int) {
	if s == nil {
		return
	}
	s.once.Do(func() {
		p := s.places
		p.mu.Lock()
		defer p.mu.Unlock()
		if one := p.scope(s.scopes[0].Name); p.Unknown > 0 && refused > 0 {
			if one.owed == 0 {
				one.at = time.Now()
			}
			one.owed += float64(refused)
			p.sweep(time.Now())
		}
		p.leave(s)
		if p.Shared != nil {
			p.Shared.Free(s.scopes, s.at)
		}
		close(p.freed)
		p.freed = make(chan struct{})
	})
}

// mostScopes is from how many scopes on those are forgotten that owe nothing any more.
const mostScopes = 10_000

func (p *Places) sweep(now time.Time) {
	if len(p.scopes) < mostScopes {
		return
	}
	for name, s := range p.scopes {
		if p.debt(name, now) == 0 && s.held == 0 && s.wanted == 0 && s.owed == 0 && now.After(s.restUntil) {
			delete(p.scopes, name)
		}
	}
}

// leave counts a session no more.
func (p *Places) leave(s *Seat) {
	for _, of := range s.scopes {
		one := p.scope(of.Name)
		if one.held--; s.leaves == of.Name {
			one.leaving--
		}
		if one.held == 0 && one.owed == 0 && one.restUntil.IsZero() && one.wanted == 0 {
			delete(p.scopes, of.Name)
		}
	}
}
