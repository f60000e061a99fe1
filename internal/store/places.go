package store

import (
	"context"
	"hash/fnv"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"varnet/core/pace"
)

// HostPlaces holds the places of one process against those of others: each is an advisory
// lock of a connection that is kept for them, so that a process which dies returns its
// places back. A place that was given back is kept for a moment: mostly the same host is
// asked on.
type HostPlaces struct {
	pool *pgxpool.Pool
	turn turn
	conn *pgxpool.Conn // of who has the turn

	mu   sync.Mutex
	held map[string]map[int]bool // by scope; what is idle included
	idle map[string][]idlePlace  // by scope
	stop *time.Timer             // unlocks what is idle
}

type idlePlace struct {
	place int
	since time.Time
}

// HostPlaces returns a holder of places.
func (s *Store) HostPlaces() *HostPlaces {
	return &HostPlaces{pool: s.sessions, held: map[string]map[int]bool{}, idle: map[string][]idlePlace{}}
}

const (
	// placesTimeout is how long a statement about places may take.
	placesTimeout = 5 * time.Second
	// placesIdle is for how long a place is kept that nobody here uses.
	placesIdle = 200 * time.Millisecond
)

// Take takes a place of both scopes, or of none.
func (p *HostPlaces) Take(ctx context.Context, scopes [2]pace.Scope, urgent bool) (places [2]int, ok bool, err error) {
	var taken [2]*int
	if p.idleOf(scopes, &taken) {
		return [2]int{*taken[0], *taken[1]}, true, nil
	}
	p.turn.take(urgent)
	defer p.turn.leave()
	if !p.idleOf(scopes, &taken) { // nor was any given back while others had their turn
		if err = p.lock(ctx, scopes, &taken); err != nil {
			return places, false, err
		}
	}
	if taken[0] != nil && taken[1] != nil {
		return [2]int{*taken[0], *taken[1]}, true, nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, at := range taken {
		if at != nil {
			p.keep(scopes[i].Name, *at)
		}
	}
	return places, false, nil
}

// idleOf takes places that are idle of the scopes that have none yet, and reports whether both have one now.
func (p *HostPlaces) idleOf(scopes [2]pace.Scope, taken *[2]*int) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, of := range scopes {
		if idle := p.idle[of.Name]; taken[i] == nil && len(idle) > 0 {
			at := idle[len(idle)-1].place // what is behind it is written over
			taken[i] = &at
			p.idle[of.Name] = idle[:len(idle)-1]
		}
	}
	return taken[0] != nil && taken[1] != nil
}

// lock takes a place of each scope that has none yet, unless it is full.
func (p *HostPlaces) lock(ctx context.Context, scopes [2]pace.Scope, taken *[2]*int) (err error) {
	// A statement cut short would cost the connection, and all places with it.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), placesTimeout)
	defer cancel()
	if p.conn == nil {
		if p.conn, err = p.pool.Acquire(ctx); err != nil {
			p.conn = nil
			return err
		}
	}
	free := p.free(scopes, *taken)
	const first = "(SELECT n FROM unnest($2::int[]) n WHERE pg_try_advisory_lock($1, n) LIMIT 1)"
	const second = "(SELECT n FROM unnest($4::int[]) n WHERE pg_try_advisory_lock($3, n) LIMIT 1)"
	var locked [2]*int
	err = p.conn.QueryRow(ctx, "SELECT "+first+", "+second, scopeKey(scopes[0].Name), free[0], scopeKey(scopes[1].Name), free[1]).Scan(&locked[0], &locked[1])
	p.mu.Lock()
	defer p.mu.Unlock()
	if err != nil {
		p.drop()
		return err
	}
	for i, at := range locked {
		if at != nil {
			p.hold(scopes[i].Name, *at)
			taken[i] = at
		}
	}
	return nil
}

// free returns the places that are not held here of each scope that has none yet.
func (p *HostPlaces) free(scopes [2]pace.Scope, taken [2]*int) (free [2][]int32) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, of := range scopes {
		for n := range of.Most {
			if taken[i] == nil && !p.held[of.Name][n] {
				free[i] = append(free[i], int32(n))
			}
		}
	}
	return free
}

// Free gives places back.
func (p *HostPlaces) Free(scopes [2]pace.Scope, places [2]int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, of := range scopes {
		if p.held[of.Name][places[i]] { // else it went with its connection
			p.keep(of.Name, places[i])
		}
	}
}

func (p *HostPlaces) hold(scope string, place int) {
	if p.held[scope] == nil {
		p.held[scope] = map[int]bool{}
	}
	p.held[scope][place] = true
}

// keep has a place idle for a moment.
func (p *HostPlaces) keep(scope string, place int) {
	p.idle[scope] = append(p.idle[scope], idlePlace{place, time.Now()})
	if p.stop == nil {
		p.stop = time.AfterFunc(placesIdle, p.unlock)
	}
}

// unlock returns those places to others that are idle for long enough.
func (p *HostPlaces) unlock() {
	p.turn.take(false)
	defer p.turn.leave()
	names, places := p.old()
	if p.conn == nil || len(names) == 0 {
		return
	}
	keys := make([]int32, len(names))
	for i, name := range names {
		keys[i] = scopeKey(name)
	}
	ctx, cancel := context.WithTimeout(context.Background(), placesTimeout)
	defer cancel()
	_, err := p.conn.Exec(ctx, "SELECT pg_advisory_unlock(k, n) FROM unnest($1::int[], $2::int[]) AS x (k, n)", keys, places)
	p.mu.Lock()
	defer p.mu.Unlock()
	if err != nil {
		p.drop()
		return
	}
	for i, name := range names {
		if delete(p.held[name], int(places[i])); len(p.held[name]) == 0 {
			delete(p.held, name)
		}
	}
}

// old takes out what is idle for long enough, and looks again later at what is not.
func (p *HostPlaces) old() (names []string, places []int32) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.stop = nil
	for name, kept := range p.idle {
		kept = slices.DeleteFunc(kept, func(i idlePlace) bool {
			old := time.Since(i.since) >= placesIdle
			if old {
				names, places = append(names, name), append(places, int32(i.place))
			}
			return old
		})
		if p.idle[name] = kept; len(kept) == 0 {
			delete(p.idle, name)
		}
	}
	if len(p.idle) > 0 {
		p.stop = time.AfterFunc(placesIdle, p.unlock)
	}
	return names, places
}

// drop gives a broken connection up, and with it all the places. It is for who has the turn, and mu.
func (p *HostPlaces) drop() {
	if p.conn == nil {
		return
	}
	_ = p.conn.Conn().Close(context.Background())
	p.conn.Release()
	p.conn, p.held, p.idle = nil, map[string]map[int]bool{}, map[string][]idlePlace{}
}

// Close gives the connection back.
func (p *HostPlaces) Close() {
	p.turn.take(true)
	defer p.turn.leave()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.drop()
}

// turn has one after the other use what only one can at a time, who is urgent before all others.
type turn struct {
	mu             sync.Mutex
	taken          bool
	urgent, others []chan struct{} // who waits
}

func (t *turn) take(urgent bool) {
	t.mu.Lock()
	if !t.taken {
		t.taken = true
		t.mu.Unlock()
		return
	}
	mine, line := make(chan struct{}), &t.others
	if urgent {
		line = &t.urgent
	}
	*line = append(*line, mine)
	t.mu.Unlock()
	<-mine
}

// leave hands the turn on.
func (t *turn) leave() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, line := range []*[]chan struct{}{&t.urgent, &t.others} {
		if len(*line) > 0 {
			close((*line)[0])
			*line = (*line)[1:]
			return
		}
	}
	t.taken = false
}

func scopeKey(name string) int32 {
	h := fnv.New32a()
	_, _ = h.Write([]byte("place " + name))
	return int32(h.Sum32())
}
