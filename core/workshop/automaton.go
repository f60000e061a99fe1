package workshop

import (
	"slices"
	"sort"
)

// automaton finds any of many texts in one pass over a cell (Aho and Corasick, 1975), whatever
// their number. Its edges lie in arrays, sorted by their bytes: a node takes a few bytes.
type automaton struct {
	first []int32 // where the edges of a node begin; those of the next one end them
	label []byte
	to    []int32
	fail  []int32
	ends  []bool // a text ends here, or at a node that this one falls back to
	root  [256]int32
}

// newAutomaton builds it, node by node in the order of their depth.
func newAutomaton(texts map[string]bool) *automaton {
	sorted := make([]string, 0, len(texts))
	for t := range texts {
		sorted = append(sorted, t)
	}
	slices.Sort(sorted)
	a := &automaton{fail: []int32{0}, ends: []bool{false}}
	type span struct{ from, to, depth int } // texts that share so many bytes
	level := []span{{0, len(sorted), 0}}
	for len(level) > 0 {
		var next []span
		for _, s := range level {
			a.first = append(a.first, int32(len(a.label)))
			for i := s.from; i < s.to; {
				if len(sorted[i]) == s.depth {
					i++ // the text that ends here
					continue
				}
				b := sorted[i][s.depth]
				end := i + sort.Search(s.to-i, func(n int) bool { return sorted[i+n][s.depth] > b })
				a.label = append(a.label, b)
				a.to = append(a.to, int32(len(a.ends)))
				a.ends = append(a.ends, len(sorted[i]) == s.depth+1)
				next = append(next, span{i, end, s.depth + 1})
				i = end
			}
		}
		level = next
	}
	a.first = append(a.first, int32(len(a.label)))
	a.link()
	return a
}

// link sets to which node each falls back. Nodes come in the order of their depth, so that those
// they fall back to are known.
func (a *automaton) link() {
	a.fail = make([]int32, len(a.ends))
	for e := a.first[0]; e < a.first[1]; e++ {
		a.root[a.label[e]] = a.to[e]
	}
	for n := int32(1); n < int32(len(a.ends)); n++ {
		for e := a.first[n]; e < a.first[n+1]; e++ {
			child := a.to[e]
			a.fail[child] = a.step(a.fail[n], a.label[e])
			a.ends[child] = a.ends[child] || a.ends[a.fail[child]]
		}
	}
}

// step is where a byte leads from a node.
func (a *automaton) step(n int32, b byte) int32 {
	for n != 0 {
		from, to := a.first[n], a.first[n+1]
		if i, found := slices.BinarySearch(a.label[from:to], b); found {
			return a.to[from+int32(i)]
		}
		n = a.fail[n]
	}
	return a.root[b]
}

// in reports whether one of the texts stands in another.
func (a *automaton) in(text string) bool {
	n := int32(0)
	for i := range len(text) {
		if n = a.step(n, text[i]); a.ends[n] {
			return true
		}
	}
	return false
}
