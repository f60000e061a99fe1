package odds

import (
	"fmt"

	"varnet/core/naming"
)

// Feature is something about an address that tells for or against its mailbox.
type Feature string

// The features. The first eight compare it with others of its domain: with mailboxes that a message
// arrived at, or where few are known with the addresses in the list; by how they are made of their
// names, or where there are none by what they look like.
const (
	FitsKnown      Feature = "fits-known"
	UnlikeKnown    Feature = "unlike-known"
	FitsList       Feature = "fits-list"
	UnlikeList     Feature = "unlike-list"
	LooksLikeKnown Feature = "looks-like-known"
	LooksOffKnown  Feature = "looks-off-known"
	LooksLikeList  Feature = "looks-like-list"
	LooksOffList   Feature = "looks-off-list"
	NotItsName     Feature = "not-its-name"
	Role           Feature = "role"
	Random         Feature = "random-looking"
)

// Features lists them in the order in which they are told.
var Features = [...]Feature{FitsKnown, UnlikeKnown, FitsList, UnlikeList, LooksLikeKnown, LooksOffKnown, LooksLikeList, LooksOffList, NotItsName, Role, Random}

// From how many addresses on a domain is compared with.
const (
	enoughKnown = 5
	enoughList  = 3
)

// Usual is how addresses are made whose mailboxes are not there: the more frequent the way of an
// address is at its domain than among those, the likelier its mailbox is.
type Usual struct {
	Patterns map[naming.Pattern]float64
	Shapes   map[naming.Shape]float64
	// Seen is what became of all messages, Operators of those at each operator.
	Seen      Seen
	Operators map[string]Seen
}

// asAll is so many messages more at each operator, as those at all.
const asAll = 10

// bounced is the share of addresses without a mailbox to expect in a list, by the operator.
func (u Usual) bounced(operator string) float64 {
	all := 1 - (u.Seen.Arrived+1)/(u.Seen.Of+2)
	of := u.Operators[operator]
	return (of.Of - of.Arrived + asAll*all) / (of.Of + asAll)
}

// ofDomain is as how many the addresses of a domain count, at most, of those whose mailboxes are not
// there: who has left a domain is made as those who are there, and so says little of other domains.
const ofDomain = 3

// add counts a message; so many bounced at its domain.
func (u *Usual) add(o *Outcome, bounced float64) {
	if u.Operators == nil {
		u.Operators = map[string]Seen{}
	}
	u.Seen, u.Operators[o.Operator] = u.Seen.with(o), u.Operators[o.Operator].with(o)
	if o.Arrived || o.Role || o.Shape == "" {
		return
	}
	if u.Shapes == nil {
		u.Shapes, u.Patterns = map[naming.Shape]float64{}, map[naming.Pattern]float64{}
	}
	times := o.Times * min(1, ofDomain/bounced)
	u.Shapes[o.Shape] += times
	if o.Named {
		u.Patterns[o.Pattern] += times
	}
}

// sign is a feature that an address has, how strongly, and in words.
type sign struct {
	Feature
	strength float64
	says     string
}

// signs returns the features of an address, compared with known mailboxes or with its list.
func (u Usual) signs(e Evidence, known bool) (out []sign) {
	beside := u.beside(e, known)
	compared := false
	if e.Named {
		var s sign
		if s, compared = beside.habit(u, e.Pattern); compared {
			out = append(out, s)
		}
	}
	if !compared && !e.Role && e.Shape != "" {
		if s, ok := beside.looks(u, e.Shape); ok {
			out = append(out, s)
		}
	}
	if e.Named && e.Pattern == "" && !compared {
		out = append(out, sign{NotItsName, 1, "not built from the name in its row"})
	}
	if e.Role {
		out = append(out, sign{Role, 1, "a task and not a person"})
	}
	if e.Random {
		out = append(out, sign{Random, 1, "looks random"})
	}
	return out
}

// beside are the addresses that one is compared with.
type beside struct {
	*Neighbours
	among    bool // it is one of them, and does not count
	whose    string
	least    int
	features [4]Feature
	bounced  float64 // the share of them without a mailbox
}

func (u Usual) beside(e Evidence, known bool) beside {
	if known {
		return beside{e.Known, e.IsKnown, "known mailboxes there", enoughKnown, [4]Feature{FitsKnown, UnlikeKnown, LooksLikeKnown, LooksOffKnown}, 0}
	}
	return beside{e.List, true, "addresses of the list there", enoughList, [4]Feature{FitsList, UnlikeList, LooksLikeList, LooksOffList}, u.bounced(e.Operator)}
}

// habit compares how an address is made of its name.
func (b beside) habit(u Usual, p naming.Pattern) (s sign, ok bool) {
	if b.Neighbours == nil {
		return s, false
	}
	x, n, of := beyond(b.Patterns, p, b.among, u.Patterns, patterns, b.bounced)
	return b.sign(b.features[0], b.features[1], x, habitSays(p, n, of, x, b.whose)), of >= b.least
}

// looks compares what an address looks like.
func (b beside) looks(u Usual, shape naming.Shape) (s sign, ok bool) {
	if b.Neighbours == nil {
		return s, false
	}
	x, n, of := beyond(b.Shapes, shape, b.among, u.Shapes, shapes, b.bounced)
	says := fmt.Sprintf("looks like %d of %d %s (%s)", n, of, b.whose, shape)
	if x < 0 {
		says = fmt.Sprintf("looks unlike %d of %d %s", of-n, of, b.whose)
	}
	return b.sign(b.features[2], b.features[3], x, says), of >= b.least
}

// sign is one of two features, by whether something speaks for the mailbox or against it.
func (beside) sign(speaksFor, against Feature, x float64, says string) sign {
	if x < 0 {
		return sign{against, -x, says}
	}
	return sign{speaksFor, x, says}
}

// A pattern is called a habit from this share of the others on, and a way of some from that.
const (
	calledHabit = 1.0 / 3
	waysOfSome  = 0.1
)

// habitSays says how an address is made beside others, of which so many are made as it is.
func habitSays(p naming.Pattern, n, of int, x float64, whose string) string {
	share := float64(n) / float64(of)
	often := "more"
	if x < 0 {
		often = "less"
	}
	switch {
	case p == "" && x < 0:
		return fmt.Sprintf("not built from its name, unlike %d of %d %s", of-n, of, whose)
	case p == "":
		return fmt.Sprintf("not built from its name, like %d of %d %s", n, of, whose)
	case x >= 0 && share >= calledHabit:
		return fmt.Sprintf("fits the naming habit of %d of %d %s (%s)", n, of, whose, p)
	case x >= 0 || share >= waysOfSome:
		return fmt.Sprintf("built from its name like %d of %d %s (%s), %s often than elsewhere", n, of, whose, p, often)
	}
	return fmt.Sprintf("built from its name differently (%s) than %d of %d %s", p, of-n, of, whose)
}
