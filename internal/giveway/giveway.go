// Package giveway has work that nobody waits for give way to what somebody does: while a person's click
// or a single check is answered, runs, imports and exports of the same process rest for a moment, and right
// after it they go on a few at a time, so that the next one does not stand in line behind all of them.
//
//	ctx, done := gate.Attend(ctx) // somebody waits
//	defer done()
//
//	gate.GiveWay(ctx) // between two pieces of work that take about a millisecond each
package giveway

import (
	"context"
	"net"
	"runtime"
	"sync"
	"sync/atomic"
	"time"
)

const (
	// attended is for how long one request holds others' work up at most: what takes longer waits for
	// something else than the processor.
	attended = 50 * time.Millisecond
	// after is for how long after the last request work goes on a few at a time.
	after = 150 * time.Millisecond
	// quantum is how long a piece of work counts as going on, unless it comes back before.
	quantum = time.Millisecond
	// most is how long a piece of work gives way at a time.
	most = 200 * time.Millisecond
)

// Class is a kind of work, which stands in line with its own kind alone: thousands of parcels keep no import waiting.
type Class int

// The classes.
const (
	Runs  Class = iota // and all other jobs
	Files              // that are imported or exported, for which somebody waits a while
	classes
)

// Gate is passed by all work of a process. Its zero value is not usable; see New.
type Gate struct {
	waits  atomic.Int64           // requests that are attended to
	last   atomic.Int64           // when one was last, in nanoseconds
	lines  [classes]chan struct{} // whose first waits for a piece
	pieces chan struct{}          // of work that go on while somebody may come

	mu   sync.Mutex
	free chan struct{} // closed while nobody is attended to
}

// New returns a gate that lets half as many pieces of work go on at a time as there are processors, while
// somebody may come, those of the classes in turn: what they ask of the database and of mail hosts takes its share
// of the other half, and who comes finds a processor.
func New() *Gate {
	g := &Gate{free: make(chan struct{}), pieces: make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2))}
	for c := range g.lines {
		g.lines[c] = make(chan struct{}, 1)
	}
	close(g.free)
	return g
}

type (
	attendedKey struct{}
	classKey    struct{}
)

// Of returns a context with which work of a class is done; without it is of Runs.
func Of(ctx context.Context, c Class) context.Context { return context.WithValue(ctx, classKey{}, c) }

// attention is a request that is attended to.
type attention struct {
	gate *Gate
	long *time.Timer

	mu sync.Mutex
	on bool
}

func (a *attention) begin() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.on {
		return
	}
	a.on = true
	g := a.gate
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.waits.Add(1) == 1 {
		g.free = make(chan struct{})
	}
}

func (a *attention) end() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.on {
		return
	}
	a.on = false
	g := a.gate
	g.last.Store(time.Now().UnixNano())
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.waits.Add(-1) == 0 {
		close(g.free)
	}
}

// Attend tells that somebody waits for what is done with the context that it returns, until done is
// called. Work that is done with that context gives way to nobody.
func (g *Gate) Attend(ctx context.Context) (_ context.Context, done func()) {
	if g == nil {
		return ctx, func() {}
	}
	a := &attention{gate: g}
	a.begin()
	a.long = time.AfterFunc(attended, a.end)
	return context.WithValue(ctx, attendedKey{}, a), func() { a.long.Stop(); a.end() }
}

// Wait tells that what somebody waits for waits itself, for work that goes on, until ended is called.
func (g *Gate) Wait(ctx context.Context) (ended func()) {
	a, ok := ctx.Value(attendedKey{}).(*attention)
	if !ok {
		return func() {}
	}
	a.end()
	return func() { a.begin(); a.long.Reset(attended) }
}

// Attended reports whether somebody waits for what is done with a context.
func Attended(ctx context.Context) bool { return ctx.Value(attendedKey{}) != nil }

// GiveWay waits while somebody is attended to, for a fifth of a second at most, and for its turn
// among other work shortly after. It costs next to nothing where nobody came lately.
func (g *Gate) GiveWay(ctx context.Context) {
	if g == nil || g.waits.Load() == 0 && time.Now().UnixNano()-g.last.Load() > int64(after) || Attended(ctx) {
		return
	}
	limit := time.NewTimer(most)
	defer limit.Stop()
	for {
		g.mu.Lock()
		free := g.free
		g.mu.Unlock()
		select {
		case <-free:
		case <-limit.C:
			return
		case <-ctx.Done():
			return
		}
		if !g.turn(ctx, limit.C) || g.waits.Load() == 0 {
			return
		}
	}
}

// turn waits for a piece, at the end of the line of its class, and takes it for a quantum; false: it took too long.
func (g *Gate) turn(ctx context.Context, limit <-chan time.Time) bool {
	take := func(of chan struct{}) bool {
		select {
		case of <- struct{}{}:
			return true
		case <-limit:
		case <-ctx.Done():
		}
		return false
	}
	c, _ := ctx.Value(classKey{}).(Class)
	if !take(g.lines[c]) {
		return false
	}
	defer func() { <-g.lines[c] }()
	if !take(g.pieces) {
		return false
	}
	time.AfterFunc(quantum, func() { <-g.pieces })
	return true
}

// Dialer returns a dialer whose conversations give way before each of their questions, unless somebody
// waits for them.
func (g *Gate) Dialer(d Dialer) Dialer {
	if g == nil {
		return d
	}
	return dialer{d, g}
}

// Dialer opens connections; *net.Dialer is one.
type Dialer interface {
	DialContext(ctx context.Context, network, addr string) (net.Conn, error)
}

type dialer struct {
	Dialer
	gate *Gate
}

func (d dialer) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	if Attended(ctx) {
		return d.Dialer.DialContext(ctx, network, addr)
	}
	d.gate.GiveWay(ctx)
	c, err := d.Dialer.DialContext(ctx, network, addr)
	if err != nil {
		return nil, err
	}
	return conn{c, d.gate}, nil
}

type conn struct {
	net.Conn
	gate *Gate
}

func (c conn) Write(b []byte) (int, error) {
	c.gate.GiveWay(context.Background())
	return c.Conn.Write(b)
}
