package main

import (
	"fmt"
	"io"
	"os"
	"slices"
	"text/tabwriter"

	"varnet/core/say"
	"varnet/internal/practice"
)

const politePeople = 20_000

// politeRounds are further apart than the 10 s for which hosts count recipients after a complaint, as the minutes and hours
// of an installation are.
const politeRounds = "VARNET_ROUNDS=12s,12s,12s,12s"

// politeness has every host character of a practice world tell how it was treated.
func politeness() error {
	w, err := practice.Generate(worldSeed)
	if err != nil {
		return err
	}
	in, err := install(w, 2711, politeRounds, "VARNET_PATIENCE=3s")
	if err != nil {
		return err
	}
	defer in.stop()
	run, results, err := in.clean(politePeople)
	if err != nil {
		return err
	}
	fmt.Printf("%s: %s addresses, %d characters.\n\n", w.Name, say.Number(run.Addresses), len(practice.Characters()))
	t := treated{listed: map[string]bool{}}
	for _, r := range results {
		t.listed[r.Mailbox] = true
	}
	table := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(table, "host\tcharacter\tsessions\tmost at a time\trecipients\trefused\tmade-up, most\tcomplaints\tafter them\twithout QUIT\t")
	for _, h := range in.net.Hosts() {
		t.hear(h)
		t.tell(table, h)
	}
	_ = table.Flush()
	fmt.Println()
	return judge(t.told())
}

// tell prints what a host saw that is worth a look.
func (t *treated) tell(out io.Writer, h *practice.Host) {
	s := h.Stats()
	madeUp := 0
	for _, n := range t.madeUpIn(s) {
		madeUp = max(madeUp, n)
	}
	if s.Complaints+s.Abrupt == 0 && madeUp <= 2 && h.Character().Sessions == 0 {
		return
	}
	fmt.Fprintf(out, "%s\t%s\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t\n", h.Name, h.Character().Name, s.Sessions, s.MostOpen, s.Recipients, s.Refused, madeUp, s.Complaints, s.After, s.Abrupt)
}

// treated is how hosts were treated, all together.
type treated struct {
	listed                              map[string]bool // the list's mailboxes
	domains, madeUp, most               int             // of honest domains: made-up recipients named in one session
	sessions, abrupt, complaints, after int
	overLimit, mostAfter                int
	limited                             []string
	mostAfterAt, mostMadeUpAt           string
}

// madeUpIn counts the made-up mailboxes that a host was asked about, those of a domain in
// a session together.
func (t *treated) madeUpIn(s practice.Stats) (counts []int) {
	for _, mailboxes := range s.Unknown {
		n := 0
		for _, m := range mailboxes {
			if !t.listed[m] {
				n++
			}
		}
		counts = append(counts, n)
	}
	return counts
}

func (t *treated) hear(h *practice.Host) {
	s, c := h.Stats(), h.Character()
	t.sessions += s.Sessions
	t.abrupt += s.Abrupt
	t.complaints += s.Complaints
	t.after += s.After
	if s.Complaints > 0 && s.After > t.mostAfter {
		t.mostAfter, t.mostAfterAt = s.After, c.Name
	}
	if c.Sessions > 0 {
		open := 0
		for _, n := range s.MostOpenFrom {
			open = max(open, n)
		}
		t.limited = append(t.limited, fmt.Sprintf("%s allows %d, saw %d", c.Name, c.Sessions, open))
		t.overLimit = max(t.overLimit, open-c.Sessions)
	}
	if !c.Honest() {
		return
	}
	for _, n := range t.madeUpIn(s) {
		t.domains, t.madeUp = t.domains+1, t.madeUp+n
		if n > t.most {
			t.most, t.mostMadeUpAt = n, c.Name
		}
	}
}

func (t *treated) told() []bar {
	out := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', 0)
	slices.Sort(t.limited)
	for _, l := range t.limited {
		fmt.Fprintf(out, "sessions at a time\t%s\t\n", l)
	}
	fmt.Fprintf(out, "made-up recipients\t%.2f on average of %s visits of honest domains, %d at most (%s)\t\n", float64(t.madeUp)/float64(max(1, t.domains)), say.Number(int64(t.domains)), t.most, t.mostMadeUpAt)
	fmt.Fprintf(out, "complaints\t%d at recipients; %d recipients in the session or 10 s after one, %d at most at one host (%s)\t\n", t.complaints, t.after, t.mostAfter, t.mostAfterAt)
	fmt.Fprintf(out, "sessions\t%s, %d ended without QUIT\t\n", say.Number(int64(t.sessions)), t.abrupt)
	_ = out.Flush()
	return []bar{
		{"made-up recipients in a session, per honest domain, at most", float64(t.most), 2, true, ""},
		// That it allows fewer than are usual, a host can only say by turning one away.
		{"sessions at a time above what a host allows one address, until it said so", float64(max(0, t.overLimit)), 1, true, ""},
		{"recipients after a complaint, for each", float64(t.after) / float64(max(1, t.complaints)), 1, true, ""},
		{"sessions that we ended without QUIT", float64(t.abrupt), 0, true, ""},
	}
}
