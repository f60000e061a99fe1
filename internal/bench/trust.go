package main

import (
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"text/tabwriter"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

const (
	people     = 10_000
	elsewhere  = 2_000    // of the worlds that are the same everywhere
	worldSeed  = 20261123 // the odds were fitted on another, 7
	practising = "VARNET_ROUNDS=2s,2s,3s,4s"
)

// bar is a figure held against what good means.
type bar struct {
	what        string
	figure, bar float64
	atMost      bool
	unit        string
}

func (b bar) met() bool {
	if b.atMost {
		return b.figure <= b.bar
	}
	return b.figure >= b.bar
}

// trust measures findings against the truth, character by character.
func trust() error {
	seed := uint64(worldSeed)
	if s := os.Getenv("VARNET_BENCH_SEED"); s != "" {
		fmt.Sscan(s, &seed)
	}
	w, err := practice.Generate(seed)
	if err != nil {
		return err
	}
	start := time.Now()
	in, err := install(w, 2701, practising, "VARNET_PATIENCE=3s")
	if err != nil {
		return err
	}
	run, results, err := in.clean(people)
	if err != nil {
		in.stop()
		return err
	}
	fmt.Printf("%s: %s of %s addresses concluded in %v, %d characters.\n\n", w.Name, say.Number(run.Done), say.Number(run.Addresses),
		time.Since(start).Round(time.Second), len(practice.Characters()))
	bars := printCharacters(os.Stdout, w, results)
	m, err := sendToAll(in, results)
	in.stop()
	if err != nil {
		return err
	}
	bars = append(bars, m.kept()...)
	bars = append(bars, printOdds(os.Stdout, m, results)...)
	for n, character := range []string{"blocks-us", "blocks-at-banner", "slow"} {
		more, err := everywhere(w, character, 2702+n)
		if err != nil {
			return err
		}
		bars = append(bars, more...)
	}
	return judge(bars)
}

// verdict of a result against the truth.
func judgement(r contract.Result, t practice.Truth) string {
	switch {
	case r.Finding == finding.Deliverable && (!t.Deliverable() || t.AnyAccepted):
		return "wrong"
	case r.Finding == finding.Undeliverable && t.Deliverable():
		return "wrong"
	case r.Finding == finding.Undecided:
		return "undecided"
	}
	return "right"
}

func truthOf(w *practice.World, r contract.Result) practice.Truth {
	return w.Truth(practice.Canonical(r.Typed))
}

func printCharacters(out io.Writer, w *practice.World, results []contract.Result) []bar {
	counts := map[string]map[string]int{}
	wrongYes, wrongNo, could, did := 0, 0, 0, 0
	for _, r := range results {
		t := truthOf(w, r)
		name := t.Character
		if name == "" {
			name = "(no such domain, or no address)"
		}
		if counts[name] == nil {
			counts[name] = map[string]int{}
		}
		j := judgement(r, t)
		counts[name][j]++
		if j == "wrong" {
			fmt.Fprintf(out, "WRONG: %s at %q is %s by %s\n", r.Typed, name, r.Finding, r.Cause)
			if r.Finding == finding.Deliverable {
				wrongYes++
			} else {
				wrongNo++
			}
		}
		if t.Learnable() {
			could++
			if j != "undecided" {
				did++
			}
		}
	}
	t := tabwriter.NewWriter(out, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(t, "character\tright\tundecided\twrong\t")
	for _, name := range sorted(counts) {
		c := counts[name]
		fmt.Fprintf(t, "%s\t%d\t%d\t%d\t\n", name, c["right"], c["undecided"], c["wrong"])
	}
	_ = t.Flush()
	fmt.Fprintln(out)
	return []bar{
		{"addresses called deliverable that are not, or are at a catch-all host", float64(wrongYes), 0, true, ""},
		{"existing addresses called undeliverable", float64(wrongNo), 0, true, ""},
		{"share concluded of the " + say.Number(int64(could)) + " addresses that can be concluded at all", 100 * float64(did) / float64(could), 99, false, "%"},
	}
}

func sorted[V any](m map[string]V) (keys []string) {
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// mailing is what became of a message to every address, by mailbox.
type mailing struct {
	became map[string]string
	wanted map[string]bool // the kept ones
}

// sendToAll really sends a message to every well-formed address.
func sendToAll(in *installation, results []contract.Result) (mailing, error) {
	m := mailing{map[string]string{}, map[string]bool{}}
	var all []string
	for _, r := range results {
		if r.Mailbox != "" {
			all = append(all, r.Mailbox)
			m.wanted[r.Mailbox] = r.Decision == policy.Keep
		}
	}
	sent, err := in.net.Send(all)
	for what, mailboxes := range map[string][]string{"delivered": sent.Delivered, "bounced": sent.Bounced, "deferred": sent.Deferred} {
		for _, mailbox := range mailboxes {
			m.became[mailbox] = what
		}
	}
	return m, err
}

// kept tells what became of the messages to the kept addresses.
func (m mailing) kept() []bar {
	counts, n := map[string]int{}, 0
	for mailbox, kept := range m.wanted {
		if kept {
			counts[m.became[mailbox]]++
			n++
		}
	}
	fmt.Printf("A mailing to the %s kept addresses: %s delivered, %d bounced, %d put off by their hosts to the end.\n\n",
		say.Number(int64(n)), say.Number(int64(counts["delivered"])), counts["bounced"], counts["deferred"])
	return []bar{{"bounces of a mailing to the " + say.Number(int64(n)) + " kept addresses",
		100 * float64(counts["bounced"]) / float64(max(1, n)), 0.5, true, "%"}}
}

// printOdds holds the odds against what was really so, tenth by tenth.
func printOdds(out io.Writer, m mailing, results []contract.Result) []bar {
	type tenth struct{ n, delivered, odds float64 }
	var tenths [10]tenth
	byCause := map[string]*tenth{}
	for _, r := range results {
		i := min(9, int(r.Odds*10))
		c := byCause[string(r.Cause)]
		if c == nil {
			c = &tenth{}
			byCause[string(r.Cause)] = c
		}
		for _, t := range []*tenth{&tenths[i], c} {
			t.n++
			t.odds += r.Odds
			if m.became[r.Mailbox] == "delivered" {
				t.delivered++
			}
		}
	}
	t := tabwriter.NewWriter(out, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(t, "odds\taddresses\tstated\treally delivered\t")
	worst := 0.0
	for i, x := range tenths {
		if x.n == 0 {
			continue
		}
		stated, really := 100*x.odds/x.n, 100*x.delivered/x.n
		fmt.Fprintf(t, "%.1f to %.1f\t%.0f\t%.1f %%\t%.1f %%\t\n", float64(i)/10, float64(i+1)/10, x.n, stated, really)
		worst = max(worst, math.Abs(stated-really))
	}
	fmt.Fprintln(t, "\t\t\t\t\ncause\taddresses\tstated\treally delivered\t")
	for _, c := range sorted(byCause) {
		x := byCause[c]
		fmt.Fprintf(t, "%s\t%.0f\t%.1f %%\t%.1f %%\t\n", c, x.n, 100*x.odds/x.n, 100*x.delivered/x.n)
	}
	_ = t.Flush()
	fmt.Fprintln(out)
	return []bar{{"largest difference in a tenth of the odds, stated against really delivered", worst, 5, true, " points"}}
}

// everywhere runs a world in which all hosts are of one character.
func everywhere(w *practice.World, character string, port int) ([]bar, error) {
	same, err := w.Everywhere(character)
	if err != nil {
		return nil, err
	}
	in, err := install(same, port, practising, "VARNET_PATIENCE=3s")
	if err != nil {
		return nil, err
	}
	defer in.stop()
	_, results, err := in.clean(elsewhere)
	if err != nil {
		return nil, err
	}
	wrong, blocked := 0, 0
	for _, r := range results {
		t := truthOf(same, r)
		if t.Character == character && judgement(r, t) == "wrong" || r.Cause.Stage() == finding.StageMailbox && r.Finding == finding.Undeliverable && character != "slow" && t.Character == character {
			wrong++
		}
		if r.Cause == finding.ExchangerBlocksUs {
			blocked++
		}
	}
	fmt.Printf("%s everywhere: %d addresses, %d refused us, %d wrong.\n", character, len(results), blocked, wrong)
	return []bar{{"wrong findings with " + character + " at every host", float64(wrong), 0, true, ""}}, nil
}

// judge prints the bars; one that was missed makes the bench fail.
func judge(bars []bar) error {
	fmt.Println()
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', 0)
	missed := 0
	for _, b := range bars {
		sign, word := "at least", "met"
		if b.atMost {
			sign = "at most"
		}
		if !b.met() {
			word = "MISSED"
			missed++
		}
		fmt.Fprintf(t, "%s\t%.2f%s\t%s %g%s\t%s\n", b.what, b.figure, b.unit, sign, b.bar, b.unit, word)
	}
	_ = t.Flush()
	if missed > 0 {
		return fmt.Errorf("%d of %d bars were missed", missed, len(bars))
	}
	return nil
}
