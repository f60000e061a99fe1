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
	// Take takes a place of the scope other than those held already; ok is false when
	// there is none.
	Take(ctx context.Context, s Scope, held []int) (place int, ok bool, err error)
	// Free gives places back.
	Free(scopes []string, places []int)
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

// While somebody urgent comes now and then, others leave them one place of a host that has several.
const (
	keptFor  = 15 * time.Second
	keptFrom = 3 // places
)

// left is how many of the places of a scope those may have who are not urgent.
func (p *Places) left(s *scope, of Scope, now time.Time) int {
	n := of.Most - s.wanted
	if of.Most >= keptFrom && now.Sub(p.urgentAt) < keptFor {
		n = min(n, of.Most-1)
	}
	return n
}

type scope struct {
	held map[int]bool
	// owed is how many unknown recipients were asked about beyond what time has
	// allowed since, at asked.
	owed float64
	at   time.Time
	// restUntil is until when the address has had enough of us.
	restUntil time.Time
	// wanted is how many wait for a place who are urgent, and leaving how many sessions end for them.
	wanted, leaving int
}

// Seat is a place that was taken for a session.
type Seat struct {
	places *Places
	scopes [2]Scope
	at     [2]int
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
		if one := s.places.scope(of.Name); s.leaves == "" && one.wanted > one.leaving && len(one.held) >= of.Most {
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

// try takes places of both scopes, or tells how long to wait.
func (p *Places) try(ctx context.Context, scopes [2]Scope, now time.Time, urgent bool) (seat *Seat, wait time.Duration, freed chan struct{}, err error) {
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
	seat = &Seat{places: p, scopes: scopes}
	for i, s := range scopes {
		one := p.scope(s.Name)
		at, ok, err := 0, urgent || len(one.held) < p.left(one, s, now), error(nil)
		if ok {
			at, ok, err = p.place(ctx, one, s)
		}
		if !ok || err != nil {
			p.giveBack(seat, i)
			return nil, p.patience(), p.freed, err
		}
		if i == 0 {
			seat.others = len(one.held)
		}
		one.held[at], seat.at[i] = true, at
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
		s = &scope{held: map[int]bool{}}
		p.scopes[name] = s
	}
	return s
}

// place finds a free place of the scope.
func (p *Places) place(ctx context.Context, s *scope, of Scope) (int, bool, error) {
	if len(s.held) >= of.Most {
		return 0, false, nil
	}
	if p.Shared != nil {
		held := make([]int, 0, len(s.held))
		for at := range s.held {
			held = append(held, at)
		}
		return p.Shared.Take(ctx, of, held)
	}
	for at := 0; ; at++ {
		if !s.held[at] {
			return at, true, nil
		}
	}
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
		p.giveBack(s, len(s.scopes))
	})
}

// mostScopes is from how many scopes on those are forgotten that owe nothing any more.
const mostScopes = 10_000

func (p *Places) sweep(now time.Time) {
	if len(p.scopes) < mostScopes {
		return
	}
	for name, s := range p.scopes {
		if p.debt(name, now) == 0 && len(s.held) == 0 && s.wanted == 0 && s.owed == 0 && now.After(s.restUntil) {
			delete(p.scopes, name)
		}
	}
}

// giveBack gives the places of the first scopes back.
func (p *Places) giveBack(s *Seat, n int) {
	names, places := make([]string, n), make([]int, n)
	for i := range n {
		names[i], places[i] = s.scopes[i].Name, s.at[i]
		one := p.scope(names[i])
		if delete(one.held, places[i]); s.leaves == names[i] {
			one.leaving--
		}
		if len(one.held) == 0 && one.owed == 0 && one.restUntil.IsZero() && one.wanted == 0 {
			delete(p.scopes, names[i])
		}
	}
	if n == 0 {
		return
	}
	if p.Shared != nil {
		p.Shared.Free(names, places)
	}
	close(p.freed)
	p.freed = make(chan struct{})
}
