package store

import (
	"context"
	"errors"
	"hash/fnv"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"varnet/core/pace"
)

// HostPlaces holds the places of one process against those of others: each is an advisory
// lock of a connection that is kept for them, so that a process which dies returns its
// places back. A place that was given back is kept for a moment: mostly the same host is
// asked on.
type HostPlaces struct {
	pool *pgxpool.Pool
	mu   sync.Mutex
	conn *pgxpool.Conn
	idle map[string][]idlePlace // by scope
	stop *time.Timer            // unlocks what is idle
}

type idlePlace struct {
	place int
	since time.Time
}

// HostPlaces returns a holder of places.
func (s *Store) HostPlaces() *HostPlaces {
	return &HostPlaces{pool: s.sessions, idle: map[string][]idlePlace{}}
}

const (
	// placesTimeout is how long a statement about places may take.
	placesTimeout = 5 * time.Second
	// placesIdle is for how long a place is kept that nobody here uses.
	placesIdle = 200 * time.Millisecond
)

// Take takes a place of the scope other than those held already.
func (p *HostPlaces) Take(ctx context.Context, of pace.Scope, held []int) (place int, ok bool, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if kept := p.idle[of.Name]; len(kept) > 0 {
		p.idle[of.Name] = kept[:len(kept)-1]
		return kept[len(kept)-1].place, true, nil
	}
	free := make([]int32, 0, of.Most)
	for n := range of.Most {
		if !slices.Contains(held, n) {
			free = append(free, int32(n))
		}
	}
	// A statement cut short would cost the connection, and all places with it.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), placesTimeout)
	defer cancel()
	if p.conn == nil {
		if p.conn, err = p.pool.Acquire(ctx); err != nil {
			p.conn = nil
			return 0, false, err
		}
	}
	err = p.conn.QueryRow(ctx, "SELECT n FROM unnest($2::int[]) n WHERE pg_try_advisory_lock($1, n) LIMIT 1", scopeKey(of.Name), free).Scan(&place)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, false, nil
	}
	if err != nil {
		p.drop()
	}
	return place, err == nil, err
}

// Free gives places back.
func (p *HostPlaces) Free(scopes []string, places []int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.conn == nil {
		return
	}
	for i, s := range scopes {
		p.idle[s] = append(p.idle[s], idlePlace{places[i], time.Now()})
	}
	if p.stop == nil {
		p.stop = time.AfterFunc(placesIdle, p.unlock)
	}
}

// unlock returns those places to others that are idle for long enough.
func (p *HostPlaces) unlock() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.stop = nil
	var keys, places []int32
	for name, kept := range p.idle {
		kept = slices.DeleteFunc(kept, func(i idlePlace) bool {
			old := time.Since(i.since) >= placesIdle
			if old {
				keys, places = append(keys, scopeKey(name)), append(places, int32(i.place))
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
	if p.conn == nil || len(keys) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), placesTimeout)
	defer cancel()
	if _, err := p.conn.Exec(ctx, "SELECT pg_advisory_unlock(k, n) FROM unnest($1::int[], $2::int[]) AS x (k, n)", keys, places); err != nil {
		p.drop()
	}
}

// drop returns a broken connection up, and with it all the places.
func (p *HostPlaces) drop() {
	_ = p.conn.Conn().Close(context.Background())
	p.conn.Release()
	p.conn, p.idle = nil, map[string][]idlePlace{}
}

// Close returns the connection back.
func (p *HostPlaces) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.conn != nil {
		p.drop()
	}
}

func scopeKey(name string) int32 {
	h := fnv.New32a()
	_, _ = h.Write([]byte("place " + name))
	return int32(h.Sum32())
}
