package intake

import (
	"fmt"
	"hash/maphash"
	"testing"
)

// TestFirsts holds it against a map, with more identities than its shards begin with.
func TestFirsts(t *testing.T) {
	f, want := newFirsts(), map[string]int32{}
	for n := range int32(300_000) {
		identity := fmt.Sprintf("person%d@seed.example", n*7919%200_000)
		if _, known := want[identity]; !known {
			want[identity] = n + 1
		}
		if got := f.first(identity, n+1); got != want[identity] {
			t.Fatalf("%s stands first in %d, not %d", identity, got, want[identity])
		}
	}
}

func BenchmarkFirsts(b *testing.B) {
	identities := make([]string, 1<<20)
	for i := range identities {
		identities[i] = fmt.Sprintf("person%d@seed.example", i)
	}
	b.Run("firsts", func(b *testing.B) {
		b.ReportAllocs()
		f := newFirsts()
		for i := range b.N {
			f.first(identities[i&(1<<20-1)], int32(i))
		}
	})
	b.Run("a map, the baseline", func(b *testing.B) {
		b.ReportAllocs()
		m := map[[2]uint64]int32{}
		f := newFirsts()
		for i := range b.N {
			identity := identities[i&(1<<20-1)]
			m[[2]uint64{maphash.String(f.seeds[0], identity), maphash.String(f.seeds[1], identity)}] = int32(i)
		}
	})
}
