package store

import (
	"slices"
	"sync"

	"varnet/internal/store/pack"
)

// latestCache remembers the latest results of the runs that were looked at last, and parts of them.
type latestCache struct {
	mu    sync.Mutex
	runs  []*latestState // the last one used first
	parts []keptPart     // the last one used first
}

type keptPart struct {
	run   int64
	folds int32
	part  int
	*pack.LatestPart
}

// What the cache holds at most: bytes of latest results that are not in use, and parts.
const (
	latestBytes = 40 << 20
	latestParts = 40 // of 400 kilobytes each
)

// bytes is about what a run's latest results take.
func (l *latestState) bytes() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := 12*l.size + 24*len(l.batches) + 2048*len(l.folded)
	if l.whole != nil {
		n += l.whole.verdicts.bytes()
	}
	return n
}

// of returns what is known of a run.
func (k *latestCache) of(run int64) *latestState {
	k.mu.Lock()
	defer k.mu.Unlock()
	if one := used(k.runs, func(l *latestState) bool { return l.run == run }); one != nil {
		return *one
	}
	return unread(run)
}

// used moves the first that fits to the front; nil where none does.
func used[T any](all []T, fits func(T) bool) *T {
	at := slices.IndexFunc(all, fits)
	if at < 0 {
		return nil
	}
	one := all[at]
	copy(all[1:], all[:at])
	all[0] = one
	return &all[0]
}

func (k *latestCache) keep(l *latestState) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.runs = slices.DeleteFunc(k.runs, func(one *latestState) bool { return one.run == l.run })
	k.runs = slices.Insert(k.runs, 0, l)
	sum := 0
	for i, one := range k.runs {
		if sum += one.bytes(); i > 0 && sum > latestBytes {
			k.runs = slices.Clone(k.runs[:i])
			return
		}
	}
}

// part returns a part of latest results as it was folded; nil where it is not remembered.
func (k *latestCache) part(l *latestState, part int) *pack.LatestPart {
	k.mu.Lock()
	defer k.mu.Unlock()
	if one := used(k.parts, func(p keptPart) bool { return p.run == l.run && p.folds == l.folds && p.part == part }); one != nil {
		return one.LatestPart
	}
	return nil
}

func (k *latestCache) keepPart(l *latestState, part int, p *pack.LatestPart) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.parts = slices.Insert(k.parts, 0, keptPart{l.run, l.folds, part, p})
	if len(k.parts) > latestParts {
		clear(k.parts[latestParts:])
		k.parts = k.parts[:latestParts]
	}
}
