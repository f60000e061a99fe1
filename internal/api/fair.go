package api

import (
	"context"
	"sync"
)

// fair lets so many go on at a time, and so many of them of one workspace or network: who has
// its share waits for its own, and nobody else does.
type fair struct {
	each int
	all  chan struct{} // nil: any number

	mu sync.Mutex
	of map[string]*share
}

// share is what one of them has.
type share struct {
	free  chan struct{}
	users int // that wait, or go on
}

// newFair lets each have so many, and all together so many; 0: any number.
func newFair(each, all int) *fair {
	f := &fair{each: each, of: map[string]*share{}}
	if all > 0 {
		f.all = make(chan struct{}, all)
	}
	return f
}

// enter waits until there is room for one more of who, and returns what is to be called at its
// end; an error where ctx ends before.
func (f *fair) enter(ctx context.Context, who string) (leave func(), _ error) {
	own := f.join(who)
	select {
	case own.free <- struct{}{}:
	case <-ctx.Done():
		f.part(who, own)
		return nil, ctx.Err()
	}
	alone := sync.OnceFunc(func() { <-own.free; f.part(who, own) })
	if f.all == nil {
		return alone, nil
	}
	select {
	case f.all <- struct{}{}:
	case <-ctx.Done():
		alone()
		return nil, ctx.Err()
	}
	return sync.OnceFunc(func() { <-f.all; alone() }), nil
}

func (f *fair) join(who string) *share {
	f.mu.Lock()
	defer f.mu.Unlock()
	own := f.of[who]
	if own == nil {
		own = &share{free: make(chan struct{}, f.each)}
		f.of[who] = own
	}
	own.users++
	return own
}

// part forgets a share that nobody uses any more.
func (f *fair) part(who string, own *share) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if own.users--; own.users == 0 {
		delete(f.of, who)
	}
}
