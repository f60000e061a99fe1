package intake

import (
	"hash/maphash"
	"math/bits"
)

// firsts remembers the cell in which each identity stands first, in some 15 bytes each. Identities
// are told apart by 76 bits of two keyed hashes: that two different ones of a list of ten million agree
// has odds of 1 to 10^9, for the whole list.
//
// It is a hash table of many small ones, so that little is moved when one of them grows.
type firsts struct {
	seeds  [2]maphash.Seed
	shards [1 << shardBits]shard
}

const shardBits = 12

// shard is a table with open addressing: a key stands at the place that it has among all keys there may
// be, or as soon after it as there was room.
type shard struct {
	keys  []uint64 // 0: free
	first []int32
	used  int
}

func newFirsts() *firsts {
	return &firsts{seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}}
}

// first returns the cell in which an identity stands first: this one, where it was not met before.
func (f *firsts) first(identity string, ordinal int32) int32 {
	of := maphash.String(f.seeds[0], identity) >> (64 - shardBits)
	return f.shards[of].find(maphash.String(f.seeds[1], identity)|1, ordinal)
}

// A shard grows by an eighth when it is seven eighths full: all of them together are four fifths full.
const smallestShard = 8

func (s *shard) find(key uint64, ordinal int32) int32 {
	if 8*(s.used+1) > 7*len(s.keys) {
		s.grow()
	}
	at, there := s.place(key)
	if there {
		return s.first[at]
	}
	s.keys[at], s.first[at] = key, ordinal
	s.used++
	return ordinal
}

// place is where a key stands, or is to stand.
func (s *shard) place(key uint64) (at int, there bool) {
	high, _ := bits.Mul64(key, uint64(len(s.keys)))
	for at = int(high); s.keys[at] != 0; {
		if s.keys[at] == key {
			return at, true
		}
		if at++; at == len(s.keys) {
			at = 0
		}
	}
	return at, false
}

func (s *shard) grow() {
	was := *s
	n := max(smallestShard, len(was.keys)+len(was.keys)/8+1)
	s.keys, s.first = make([]uint64, n), make([]int32, n)
	for i, key := range was.keys {
		if key != 0 {
			at, _ := s.place(key)
			s.keys[at], s.first[at] = key, was.first[i]
		}
	}
}
