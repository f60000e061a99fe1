package odds

import (
	"varnet/core/finding"
	"varnet/core/naming"
)

// Facts are what an address and its row show of themselves.
type Facts struct {
	// Pattern is how the address is made of the name in its row, "" where by none that is known;
	// Named reports whether there is a name at all.
	Pattern naming.Pattern
	Named   bool
	// Shape is what it looks like, whatever the name.
	Shape naming.Shape
	// Role: it stands for a task, which no name is compared with. Random: nobody would call a
	// mailbox so.
	Role, Random bool
}

// FactsOf returns the facts of an address. First and last name may stand the other way round.
func FactsOf(local string, name naming.Name, traits finding.Traits) Facts {
	f := Facts{Shape: naming.ShapeOf(local), Role: traits.Has(finding.TraitRole), Random: traits.Has(finding.TraitRandomLooking)}
	if f.Role || name.First == "" || name.Last == "" {
		return f
	}
	f.Named = true
	if f.Pattern = naming.Of(name, local); f.Pattern == "" {
		f.Pattern = naming.Of(naming.Name{First: name.Last, Last: name.First}, local)
	}
	return f
}

// Neighbours are the addresses of a domain by how they are made: those with a name by pattern, all of
// them by shape. The zero value has none.
type Neighbours struct {
	Patterns map[naming.Pattern]int
	Shapes   map[naming.Shape]int
}

// Add adds so many addresses. Those of tasks tell nothing of the others, and are left out.
func (n *Neighbours) Add(f Facts, addresses int) {
	if f.Role {
		return
	}
	if n.Shapes == nil {
		n.Shapes, n.Patterns = map[naming.Shape]int{}, map[naming.Pattern]int{}
	}
	n.Shapes[f.Shape] += addresses
	if f.Named {
		n.Patterns[f.Pattern] += addresses
	}
}

// Most is the most frequent pattern of those with a name, how many follow it, and of how many.
func (n *Neighbours) Most() (p naming.Pattern, follow, of int) {
	if n == nil {
		return "", 0, 0
	}
	for _, one := range patterns {
		if n.Patterns[one] > follow {
			p, follow = one, n.Patterns[one]
		}
	}
	return p, follow, sum(n.Patterns)
}

// All is how many there are.
func (n *Neighbours) All() int {
	if n == nil {
		return 0
	}
	return sum(n.Shapes)
}

func sum[K ~string](counts map[K]int) (n int) {
	for _, one := range counts {
		n += one
	}
	return n
}
