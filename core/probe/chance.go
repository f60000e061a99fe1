package probe

import "math"

// tally counts the listed mailboxes of a domain that an exchanger took and refused.
type tally struct{ taken, refused int }

// plus adds what is remembered of the exchanger.
func (t tally) plus(before *Acceptance) tally {
	if before == nil {
		return t
	}
	return tally{t.taken + before.ListedTaken, t.refused + before.ListedRefused}
}

// Proof is how many made-up mailboxes in a row a host that is doubted most must refuse:
// one that takes every other mailbox does so once in 1,024 times.
const Proof = 10

// proof returns how many made-up mailboxes in a row the host must refuse before answers
// like these are believed, 0 to 10. A host that takes every other mailbox, whatever its
// name, looks like one that knows them: nothing but made-up ones tells the two apart,
// each refusal halving the odds. So a domain is doubted that refused more listed mailboxes
// than is usual, and as many as chance would, and a small one is asked about no more made-up
// mailboxes than listed ones.
func (t tally) proof() int {
	n := t.taken + t.refused
	switch least := float64(n)/2 - 3*math.Sqrt(float64(n))/2; {
	case t.taken == 0 || n < 4 || float64(t.refused) < least: // by three standard deviations
		return 0
	case n < 8 && t.refused*10 >= n*4:
		return n
	case n >= 8 && t.refused*10 >= n*3:
		return Proof
	}
	return 0
}
