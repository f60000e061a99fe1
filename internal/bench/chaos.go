package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"text/tabwriter"
	"time"

	"varnet/core/finding"
	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

const (
	chaosPort    = 2707
	chaosRows    = 100_000
	kills        = 20
	restarts     = 3 // of PostgreSQL, and as many of the pooler
	chaosWorkers = 3
	outage       = 20 * time.Second
	onTheWay     = time.Second // as long as a question may lie in a buffer
	chaosWaits   = "VARNET_ROUNDS=5s,10s,20s,30s"
)

// chaos runs a list undisturbed, and once more while everything breaks, and
// holds the two against each other and against what the hosts remember.
func chaos() error {
	w, err := chaosWorld()
	if err != nil {
		return err
	}
	c := &ordeal{}
	if c.calm, c.tookCalm, err = undisturbed(w); err != nil {
		return err
	}
	pooler, err := startPooler()
	if err != nil {
		return err
	}
	defer pooler.stop()
	in, err := installBehind(&pooler, w, chaosPort, chaosWaits)
	if err != nil {
		return err
	}
	defer in.stop()
	for range chaosWorkers {
		if err := in.worker(); err != nil {
			return err
		}
	}
	c.disturbance = &disturbance{in: in, pooler: pooler, rng: rand.New(rand.NewPCG(20, 3))}
	ended, err := c.undergo(w)
	if err != nil {
		return err
	}
	if err := c.askFurther(ended); err != nil {
		return err
	}
	return c.tell()
}

// ordeal is what came of a list undisturbed, disturbed, and after a further round.
type ordeal struct {
	*disturbance
	calm, disturbed, settled []contract.Result
	tookCalm, took           time.Duration
	questions, further       int // at the hosts, by the disturbed run and with the further round
	twice                    int // addresses asked about after their result was recorded
}

// undergo runs the list while everything breaks.
func (c *ordeal) undergo(w *practice.World) (contract.Run, error) {
	start := time.Now()
	run, err := begin(c.in, w)
	if err != nil {
		return run, err
	}
	done := make(chan error, 1)
	go func() { done <- c.run() }()
	if run, err = c.in.api.Wait(context.Background(), run.ID, func(contract.Run) {}); err != nil {
		return run, err
	}
	c.took = time.Since(start)
	select {
	case err = <-done:
	default:
		err = errors.New("the run ended before all that was to break had broken")
	}
	if err == nil {
		c.disturbed, err = c.in.all(run.ID)
	}
	c.questions, c.twice = asked(c.in.net), askedAfter(c.in.net, c.disturbed)
	return run, err
}

// askFurther asks once more about those that the disturbed run left open.
func (c *ordeal) askFurther(run contract.Run) (err error) {
	if run.MayAsk > 0 {
		if _, err = c.in.api.AskAgain(context.Background(), run.ID, contract.AskAgain{}); err == nil {
			_, err = c.in.api.Wait(context.Background(), run.ID, func(contract.Run) {})
		}
		if err != nil {
			return err
		}
	}
	c.settled, err = c.in.all(run.ID)
	c.further = asked(c.in.net)
	return err
}

// tell prints the three side by side and judges them.
func (c *ordeal) tell() error {
	before, after := differences(c.calm, c.disturbed), differences(c.calm, c.settled)
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "%s addresses\tundisturbed\tdisturbed\tafter a further round\t\n", say.Number(int64(len(c.calm))))
	fmt.Fprintf(t, "took\t%.0f s\t%.0f s\t\t\n", c.tookCalm.Seconds(), c.took.Seconds())
	fmt.Fprintf(t, "results\t%d\t%d\t%d\t\n", len(c.calm), len(c.disturbed), len(c.settled))
	fmt.Fprintf(t, "questions at the hosts\t\t%d\t%d\t\n", c.questions, c.further)
	fmt.Fprintf(t, "other findings than undisturbed\t\t%d\t%d\t\n", before.all, after.all)
	fmt.Fprintf(t, "of those undecided\t\t%d\t%d\t\n", before.undecided, after.undecided)
	_ = t.Flush()
	fmt.Printf("Broken meanwhile: %s.\n", strings.Join(c.log, "; "))
	return judge([]bar{
		{what: "addresses without exactly one result", figure: float64(missing(c.calm, c.disturbed)), bar: 0, atMost: true},
		{what: "wrong findings (other than undecided) in the disturbed run", figure: float64(before.all - before.undecided), bar: 0, atMost: true},
		{what: "other findings after a further round", figure: float64(after.all), bar: 0, atMost: true},
		{what: "addresses asked about after their result was recorded", figure: float64(c.twice), bar: 0, atMost: true},
		{what: "longest standstill after a cure", figure: c.standstill.Seconds(), bar: 60, atMost: true, unit: " s"},
	})
}

// chaosWorld has hosts that take their time, so that there is some to break in,
// with many domains each.
func chaosWorld() (*practice.World, error) {
	var operators []string
	for i := range 12 {
		var domains []string
		for n := range 40 {
			domains = append(domains, fmt.Sprintf(`"orchard-%02d-%02d.example"`, i+1, n+1))
		}
		operators = append(operators, fmt.Sprintf(`{"name": "orchard-%02d.example", "character": "deliberate", "domains": [%s], "weight": 1, "real": 0.9}`, i+1, strings.Join(domains, ",")))
	}
	return practice.Read(strings.NewReader(fmt.Sprintf(`{"name": "chaos", "seed": 20, "greylistMs": 1000, "remember": true, "outbound": {}, "operators": [%s]}`, strings.Join(operators, ","))))
}

// begin brings the world's addresses in and starts their run.
func begin(in *installation, w *practice.World) (contract.Run, error) {
	ctx := context.Background()
	reader := strings.NewReader("E-mail\n" + strings.Join(addressesOf(w, chaosRows), "\n") + "\n")
	l, err := in.api.Import(ctx, client.File{Name: "orchards.csv", Body: reader})
	if err != nil {
		return contract.Run{}, err
	}
	return in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
}

func undisturbed(w *practice.World) ([]contract.Result, time.Duration, error) {
	in, err := install(w, chaosPort, chaosWaits)
	if err != nil {
		return nil, 0, err
	}
	defer in.stop()
	start := time.Now()
	run, err := begin(in, w)
	if err == nil {
		run, err = in.api.Wait(context.Background(), run.ID, func(contract.Run) {})
	}
	if err != nil {
		return nil, 0, err
	}
	took := time.Since(start)
	results, err := in.all(run.ID)
	return results, took, err
}

// disturbance breaks things, one after the other.
type disturbance struct {
	in         *installation
	pooler     pooler
	rng        *rand.Rand
	log        []string
	standstill time.Duration
}

func (d *disturbance) run() error {
	time.Sleep(500 * time.Millisecond)
	d.in.net.Silence()
	d.log = append(d.log, fmt.Sprintf("the name server silent for %v", outage))
	time.AfterFunc(outage, func() { _ = d.in.net.Speak() })
	for n := range kills {
		time.Sleep(time.Duration(1000+d.rng.IntN(8000)) * time.Millisecond)
		switch n {
		case kills / 4, kills / 2, kills * 3 / 4:
			if err := exec.Command("script/postgres", "restart", os.Getenv("PWD")+"/.varnet/bench-postgres").Run(); err != nil {
				return fmt.Errorf("restart PostgreSQL: %w", err)
			}
		case kills / 3:
			d.vanish()
		case kills / 5, kills * 2 / 5, kills * 4 / 5:
			if err := d.pooler.restart(); err != nil {
				return fmt.Errorf("restart the pooler: %w", err)
			}
		}
		if err := d.in.kill(d.rng.IntN(1 + chaosWorkers)); err != nil {
			return err
		}
		if n%4 == 3 {
			d.awaitProgress()
		}
	}
	d.awaitProgress()
	d.log = append(d.log, fmt.Sprintf("%d times kill -9 of the service or one of %d workers", kills, chaosWorkers), fmt.Sprintf("%d restarts of PostgreSQL, and %d of the pooler", restarts, restarts))
	return nil
}

// vanish takes a third of the hosts away for a while.
func (d *disturbance) vanish() {
	hosts := d.in.net.Hosts()
	gone := hosts[:len(hosts)/3]
	for _, h := range gone {
		h.Leave()
	}
	d.log = append(d.log, fmt.Sprintf("%d of %d hosts gone for %v", len(gone), len(hosts), outage))
	time.AfterFunc(outage, func() {
		for _, h := range gone {
			_ = h.Return()
		}
	})
}

// awaitProgress waits until the hosts are asked again, and remembers how long
// that took.
func (d *disturbance) awaitProgress() {
	start, before := time.Now(), asked(d.in.net)
	for asked(d.in.net) == before && time.Since(start) < 3*time.Minute {
		time.Sleep(100 * time.Millisecond)
	}
	d.standstill = max(d.standstill, time.Since(start))
}

// asked counts the questions that hosts were asked.
func asked(i *practice.Internet) (sum int) {
	for _, h := range i.Hosts() {
		sum += h.Stats().Recipients
	}
	return sum
}

// askedAfter counts addresses that a host was asked about after their result was
// recorded, other than those that were on their way at that moment: what a host that went away
// still has in its buffer, it reads.
func askedAfter(i *practice.Internet, results []contract.Result) (n int) {
	last := map[string]time.Time{}
	for _, h := range i.Hosts() {
		for m, at := range h.LastAsked() {
			last[m] = at
		}
	}
	for _, r := range results {
		if late := last[r.Mailbox].Sub(r.At); late > onTheWay {
			fmt.Printf("%s was asked about %v after its result, %s, was recorded\n", r.Mailbox, late.Round(time.Millisecond), r.Cause)
			n++
		}
	}
	return n
}

// differ counts findings that are others than in the undisturbed run.
type differ struct{ all, undecided int }

func differences(calm, other []contract.Result) (d differ) {
	want := map[string]finding.Finding{}
	for _, r := range calm {
		want[r.Typed] = r.Finding
	}
	for _, r := range other {
		if r.Finding != want[r.Typed] {
			d.all++
			if r.Finding == finding.Undecided {
				d.undecided++
			}
		}
	}
	return d
}

// missing counts addresses that have no result, or several.
func missing(calm, other []contract.Result) (n int) {
	have := map[string]int{}
	for _, r := range other {
		have[r.Typed]++
	}
	for _, r := range calm {
		if have[r.Typed] != 1 {
			n++
		}
	}
	return n
}
