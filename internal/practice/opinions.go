package practice

import (
	"bytes"
	"encoding/csv"
	"io"
	"math/rand/v2"
	"time"
)

// OpinionsHeader are the columns that WriteOpinions adds: two other checks, each with words of its own, and
// the day of the last order.
var OpinionsHeader = []string{"Seedcheck", "Gatepost", "Last order"}

// mistaken is how often the other checks are wrong.
const mistaken = 0.07

// The words of the other checks: for an address that takes messages, one at a host that takes
// everything, one that does not, and one that they could not tell.
var (
	seedcheck = [4]string{"sound", "open house", "gone", "no word"}
	gatepost  = [4]string{"A: passes", "A: passes", "C: turned away", "B: perhaps"}
)

// WriteOpinions writes the members' list of WriteList with what two other checks found, mostly rightly,
// and when the member ordered last.
func (w *World) WriteOpinions(out io.Writer, n int) error {
	var list bytes.Buffer
	if err := w.WriteList(&list, n); err != nil {
		return err
	}
	rows, err := csv.NewReader(&list).ReadAll()
	if err != nil {
		return err
	}
	rng, c := rand.New(rand.NewPCG(w.Seed, 7)), csv.NewWriter(out)
	now := time.Now().UTC()
	for i, row := range rows {
		added := OpinionsHeader
		if i > 0 {
			t := w.Truth(Canonical(row[2]))
			added = []string{seedcheck[w.opinion(t, rng)], gatepost[w.opinion(t, rng)], ""}
			if t.Deliverable() && rng.IntN(5) < 2 {
				added[2] = now.AddDate(0, 0, -rng.IntN(1000)).Format(time.DateOnly)
			}
		}
		if err := c.Write(append(row, added...)); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// opinion is which of its words another check has for an address.
func (w *World) opinion(t Truth, rng *rand.Rand) int {
	c := characters[t.Character]
	switch {
	case rng.Float64() < mistaken:
		return rng.IntN(4)
	case c != nil && c.Mute:
		return 3
	case t.AnyAccepted:
		return 1
	case t.Deliverable():
		return 0
	}
	return 2
}
