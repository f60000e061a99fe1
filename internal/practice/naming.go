package practice

import (
	"encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"varnet/core/naming"
)

// Habit is by which patterns the mailboxes of a domain are made of the names of their people;
// several: each person's by one of them. With Changed, those who joined in that year or later have
// the last one, the others the first.
type Habit struct {
	Patterns []naming.Pattern `json:"patterns"`
	Changed  int              `json:"changed,omitempty"`
}

// The shares of a world of habits: mailboxes that do not follow theirs, rows without a name, and
// addresses of tasks.
const (
	straying = 0.08
	nameless = 0.1
	tasks    = 0.03
)

// anyway is how addresses are made that have no mailbox: of people who have left or never were,
// typed by guess; "" is by a word that has nothing to do with the name.
var anyway = []naming.Pattern{naming.FirstDotLast, naming.FirstDotLast, naming.FirstDotLast, naming.InitialLast, naming.InitialLast, naming.FirstAlone, naming.FirstAlone,
	naming.LastDotFirst, naming.FirstUnderscoreLast, naming.InitialDotLast, naming.FirstLast, naming.FirstInitial, "", "", ""}

// GenerateHabits makes a world of catch-all hosts whose domains have naming habits: each of ten
// patterns, two at once, one that changed in a year, and none. domains are so many at each of eight
// operators, of which between 25 and 75 in 100 mailboxes are there.
func GenerateHabits(seed uint64, domains int) (*World, error) {
	w := &World{Name: fmt.Sprintf("naming habits, seed %d", seed), Seed: seed, GreylistMS: 1200}
	rng := rand.New(rand.NewPCG(seed, 25))
	for i := range 8 {
		o := Operator{Name: fmt.Sprintf("hosting-%d.example", i+1), Character: "catch-all", Weight: 10, Real: 0.25 + 0.5*float64(i)/7, Habits: map[string]Habit{}}
		for n := range domains {
			name := fmt.Sprintf("guild-%d-%02d.example", i+1, n+1)
			o.Domains = append(o.Domains, name)
			o.Habits[name] = drawHabit(rng)
		}
		w.Operators = append(w.Operators, o)
	}
	return w, w.prepare()
}

// habitual are the patterns that a domain may have as its habit.
var habitual = []naming.Pattern{naming.FirstDotLast, naming.FirstDotLast, naming.InitialLast, naming.FirstAlone, naming.LastDotFirst, naming.FirstUnderscoreLast,
	naming.InitialDotLast, naming.FirstLast, naming.FirstInitial, naming.FirstHyphenLast, naming.LastInitial}

func drawHabit(rng *rand.Rand) Habit {
	one := func() naming.Pattern { return habitual[rng.IntN(len(habitual))] }
	switch rng.IntN(6) {
	case 0:
		return Habit{Patterns: []naming.Pattern{one(), one()}}
	case 1:
		return Habit{Patterns: []naming.Pattern{one(), one()}, Changed: 2018}
	case 2:
		return Habit{Patterns: anyway}
	}
	return Habit{Patterns: []naming.Pattern{one()}}
}

// of is the pattern of a person who joined in a year.
func (h Habit) of(year int, rng *rand.Rand) naming.Pattern {
	switch {
	case h.Changed == 0:
		return h.Patterns[rng.IntN(len(h.Patterns))]
	case year >= h.Changed:
		return h.Patterns[len(h.Patterns)-1]
	}
	return h.Patterns[0]
}

// HabitsHeader is the header of a list of people at domains with habits.
var HabitsHeader = []string{"First name", "Last name", "E-mail", "Joined"}

// WriteHabits writes a list of n people at the domains with naming habits, or at those of them that
// are chosen. A mailbox that is there mostly follows the habit of its domain. Which draws the people.
func (w *World) WriteHabits(out io.Writer, n int, which uint64, chosen func(string) bool) error {
	rng, c := rand.New(rand.NewPCG(w.Seed, which)), csv.NewWriter(out)
	var operators []*Operator
	for i := range w.Operators {
		if len(w.Operators[i].Habits) > 0 {
			operators = append(operators, &w.Operators[i])
		}
	}
	if len(operators) == 0 {
		return fmt.Errorf("no domain of the world %q has a naming habit", w.Name)
	}
	if err := c.Write(HabitsHeader); err != nil {
		return err
	}
	written := map[string]bool{}
	for len(written) < n {
		o := operators[rng.IntN(len(operators))]
		d := o.Domains[rng.IntN(len(o.Domains))]
		if chosen != nil && !chosen(d) {
			continue
		}
		row := w.habitRow(o, d, rng)
		if written[row[2]] {
			continue
		}
		written[row[2]] = true
		if err := c.Write(row); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// habitRow draws a person, and the address of theirs: one that is there as the habit will have it,
// one that is not as it comes.
func (w *World) habitRow(o *Operator, domain string, rng *rand.Rand) []string {
	first, last := firstNames[rng.IntN(len(firstNames))], lastNames[rng.IntN(len(lastNames))]
	joined := time.Date(2009, 3, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, rng.IntN(6200))
	there := rng.Float64() < o.Real
	pattern := anyway[rng.IntN(len(anyway))]
	if there && rng.Float64() >= straying {
		pattern = o.Habits[domain].of(joined.Year(), rng)
	}
	local := made(pattern, first, last, rng)
	if rng.Float64() < tasks {
		local = roleLocals[rng.IntN(len(roleLocals))]
	}
	row := []string{first, last, w.local(local, domain, there) + "@" + domain, joined.Format(time.DateOnly)}
	if rng.Float64() < nameless {
		row[0], row[1] = "", ""
	}
	return row
}

// made makes a local part of a name by a pattern.
func made(p naming.Pattern, first, last string, rng *rand.Rand) string {
	if p != "" {
		return naming.Make(p, naming.Name{First: first, Last: last})
	}
	return words[rng.IntN(len(words))]
}

// words are what people call themselves who do not use their names.
var words = strings.Fields("beanfield greenhand seedling sunflower harvester mulch orchardist pumpkin thatch wheelbarrow allotment compost trowel hedgehog")

// local gives a local part a number, as those have who are not the first of their name, so that its
// mailbox is there or not as is wanted.
func (w *World) local(local, domain string, there bool) string {
	for n := 1; ; n++ {
		if numbered := local + strconv.Itoa(n); w.Truth(numbered+"@"+domain).Exists == there {
			return numbered
		}
	}
}

// knownByHabit tells the locals that a list of people at a domain with a habit may hold.
func knownByHabit(local string) bool {
	local = strings.TrimRight(local, "0123456789")
	return slices.Contains(words, local) || slices.Contains(roleLocals, local) || byPattern()[local]
}

// byPattern are the local parts that can be made of the world's names.
var byPattern = sync.OnceValue(func() map[string]bool {
	all := map[string]bool{}
	for _, p := range append(slices.Clone(habitual), anyway...) {
		for _, f := range firstNames {
			for _, l := range lastNames {
				if p != "" {
					all[naming.Make(p, naming.Name{First: f, Last: l})] = true
				}
			}
		}
	}
	return all
})
