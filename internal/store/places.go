package store

import (
	"context"
	"hash/fnv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"varnet/core/pace"
)

// HostPlaces holds the places of one process against those of others: each is an advisory
// lock of a connection that is kept for them, so that a process which dies gives its
// places back.
type HostPlaces struct {
	pool *pgxpool.Pool
	mu   sync.Mutex
	conn *pgxpool.Conn
}

// HostPlaces returns a holder of places.
func (s *Store) HostPlaces() *HostPlaces { return &HostPlaces{pool: s.pool} }

// placesTimeout is how long a statement about places may take.
const placesTimeout = 5 * time.Second

// Take takes a place of the scope other than those held already.
func (p *HostPlaces) Take(ctx context.Context, of pace.Scope, held []int) (place int, ok bool, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	free := make([]int32, 0, of.Most)
	taken := map[int]bool{}
	for _, h := range held {
		taken[h] = true
	}
	for n := range of.Most {
		if !taken[n] {
			free = append(free, int32(n))
		}
	}
	// A statement cut short would cost the connection, and all places with it.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), placesTimeout)
	defer cancel()
	if err := p.connect(ctx); err != nil {
		return 0, false, err
	}
	err = p.conn.QueryRow(ctx, "SELECT n FROM unnest($2::int[]) n WHERE pg_try_advisory_lock($1, n) LIMIT 1", scopeKey(of.Name), free).Scan(&place)
	if err == pgx.ErrNoRows {
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
	keys := make([]int32, len(scopes))
	for i, s := range scopes {
		keys[i] = scopeKey(s)
	}
	ctx, cancel := context.WithTimeout(context.Background(), placesTimeout)
	defer cancel()
	if _, err := p.conn.Exec(ctx, "SELECT pg_advisory_unlock(k, n) FROM unnest($1::int[], $2::int[]) AS x (k, n)", keys, places); err != nil {
		p.drop()
	}
}

func (p *HostPlaces) connect(ctx context.Context) (err error) {
	if p.conn == nil {
		p.conn, err = p.pool.Acquire(ctx)
	}
	return err
}

// drop gives a broken connection up, and with it all the places.
func (p *HostPlaces) drop() {
	_ = p.conn.Conn().Close(context.Background())
	p.conn.Release()
	p.conn = nil
}

// Close gives the connection back.
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
