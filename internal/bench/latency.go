package main

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"varnet/core/pace"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

// latencyRows is how many addresses the hosts are asked about, all different.
const latencyRows = 20_000

// latency asks hosts that are 20 ms away and allow few sessions. In the first
// part the hosts are the bound: a bare client asks the same questions on as many
// sessions as each host allows. In the second the sessions that one worker may
// have open are, and a second one helps.
func latency() error {
	few, err := farWorld([]int{60, 20, 12}, 20)
	if err != nil {
		return err
	}
	many, err := farWorld(nil, 120)
	if err != nil {
		return err
	}
	bound, hosts, over1, err := farTwice(few)
	if err != nil {
		return err
	}
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprint(t, "20,000 addresses, round trips of 20 ms\ttook\taddresses a second\tmost sessions at a host above its limit\t\n")
	line := func(what string, took time.Duration, above int) {
		fmt.Fprintf(t, "%s\t%.1f s\t%.0f\t%d\t\n", what, took.Seconds(), latencyRows/took.Seconds(), above)
	}
	line("the hosts' own limits, asked by a bare client, the faster of two", bound, 0)
	line("Varnet, one worker, the faster of two", hosts, over1)
	alone, over2, err := farRun(many, 1, pace.DefaultCap, "VARNET_LANES=20")
	if err != nil {
		return err
	}
	line("120 operators, one worker of 20 lanes", alone, over2)
	both, over3, err := farRun(many, 2, pace.DefaultCap, "VARNET_LANES=20")
	if err != nil {
		return err
	}
	line("120 operators, two workers of 20 lanes", both, over3)
	_ = t.Flush()
	return judge([]bar{
		{what: "times the bound of the hosts' limits", figure: hosts.Seconds() / bound.Seconds(), bar: 1.15, atMost: true},
		{what: "two workers' time, of one's", figure: both.Seconds() / alone.Seconds(), bar: 0.6, atMost: true},
		{what: "sessions at a host above its limit", figure: float64(max(over1, over2, over3)), bar: 0, atMost: true},
	})
}

// farTwice times a bare client and Varnet in turn, twice each: a machine that
// other work slows down for some seconds would spoil a single comparison.
func farTwice(w *practice.World) (bound, ours time.Duration, over int, err error) {
	for range 2 {
		b, err := farBound(w)
		if err != nil {
			return 0, 0, 0, err
		}
		o, most, err := farRun(w, 1, pace.DefaultCap, "VARNET_LANES=200")
		if err != nil {
			return 0, 0, 0, err
		}
		if bound == 0 {
			bound, ours = b, o
		}
		bound, ours, over = min(bound, b), min(ours, o), max(over, most)
	}
	return bound, ours, over, nil
}

// farWorld is a world of operators far away: some large ones of given weights,
// and others of the same small weight.
func farWorld(large []int, others int) (*practice.World, error) {
	var operators []string
	add := func(name string, weight int) {
		character := []string{"far", "far-four", "far"}[len(operators)%3]
		operators = append(operators, fmt.Sprintf(`{"name": %q, "character": %q, "domains": [%q], "weight": %d, "real": 0.95}`, name, character, name, weight))
	}
	for i, w := range large {
		add(fmt.Sprintf("barn-%d.example", i+1), w)
	}
	for i := range others {
		add(fmt.Sprintf("shed-%03d.example", i+1), 2)
	}
	return practice.Read(strings.NewReader(fmt.Sprintf(`{"name": "far", "seed": 20, "greylistMs": 1000, "outbound": {}, "operators": [%s]}`, strings.Join(operators, ","))))
}

// addressesOf returns addresses of a world that are all different and plain, the
// operators by their weight and the domains of one in turn.
func addressesOf(w *practice.World, rows int) []string {
	sum, out := 0, make([]string, 0, rows)
	for _, o := range w.Operators {
		sum += o.Weight
	}
	for i, o := range w.Operators {
		n := rows * o.Weight / sum
		if i == len(w.Operators)-1 {
			n = rows - len(out)
		}
		for k := range n {
			out = append(out, practice.Local(k)+"@"+o.Domains[k%len(o.Domains)])
		}
	}
	return out
}

// farBound asks about all addresses on as many sessions as each host allows, and
// Varnet's cap does: bare dialogues that do nothing with the answers.
func farBound(w *practice.World) (time.Duration, error) {
	i, err := practice.Start(w, "127.0.0.1:0", farPort)
	if err != nil {
		return 0, err
	}
	defer i.Close()
	byHost := map[string][]string{}
	for _, a := range addressesOf(w, latencyRows) {
		_, domain, _ := strings.Cut(a, "@")
		byHost["mx1."+domain] = append(byHost["mx1."+domain], a)
	}
	var jobs []func() error
	for _, h := range i.Hosts() {
		mailboxes := byHost[h.Name]
		for n := range pace.DefaultCap {
			part := mailboxes[n*len(mailboxes)/pace.DefaultCap : (n+1)*len(mailboxes)/pace.DefaultCap]
			jobs = append(jobs, func() error { return hundreds(fmt.Sprintf("%s:%d", h.Addr, farPort), part) })
		}
	}
	return atOnce(jobs)
}

// hundreds asks about mailboxes, a hundred to a session, as RFC 5321 has it
// (section 4.5.3.1.8).
func hundreds(addr string, mailboxes []string) error {
	for some := range slices.Chunk(mailboxes, 100) {
		if err := dialogue(addr, some); err != nil {
			return err
		}
	}
	return nil
}

const farPort = 2706

// bring brings addresses in as a list.
func (in *installation) bring(ctx context.Context, addresses []string) (contract.List, error) {
	return in.api.Import(ctx, client.File{Name: "far.csv", Body: strings.NewReader("E-mail\n" + strings.Join(addresses, "\n") + "\n")})
}

// farRun brings the addresses in, runs them with some workers, and tells how long
// that took and by how much the sessions at any host went over its limit.
func farRun(w *practice.World, workers, most int, settings ...string) (time.Duration, int, error) {
	in, err := install(w, farPort, settings...)
	if err != nil {
		return 0, 0, err
	}
	defer in.stop()
	for range workers - 1 {
		if err := in.worker(); err != nil {
			return 0, 0, err
		}
	}
	ctx := context.Background()
	l, err := in.bring(ctx, addressesOf(w, latencyRows))
	if err != nil {
		return 0, 0, err
	}
	start := time.Now()
	run, err := in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	if err == nil {
		run, err = in.api.Wait(ctx, run.ID, func(contract.Run) {})
	}
	took := time.Since(start)
	if err == nil && run.Done != latencyRows {
		err = fmt.Errorf("%d of %d addresses have a result", run.Done, latencyRows)
	}
	over := 0
	for _, h := range in.net.Hosts() {
		over = max(over, h.Stats().MostOpen-most)
	}
	return took, over, err
}
