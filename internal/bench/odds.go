package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"varnet/core/finding"
	"varnet/core/odds"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

const (
	oddsPort     = 2716
	oddsRows     = 10_000 // in each list
	oddsDomains  = 50     // at each operator, half of which are in the first list
	oddsBar      = 0.8    // of the policy that is mailed
	oddsTenthBar = 5.0    // points
)

// oddsBench mails a list of 10,000 people at catch-all domains with naming habits, learns from what
// comes back, and holds the odds of two further lists against the truth: of the same domains, and of
// domains that were never mailed. Then it mails the second by a policy of odds.
func oddsBench() error {
	w, err := practice.GenerateHabits(25, oddsDomains)
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "varnet-bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	b := oddsRun{world: w, clock: filepath.Join(folder, "clock")}
	if err := os.WriteFile(b.clock, []byte("0s"), 0o600); err != nil {
		return err
	}
	if b.in, err = install(w, oddsPort, practising, "VARNET_CLOCK="+b.clock); err != nil {
		return err
	}
	defer b.in.stop()
	bars, err := b.all()
	if err != nil {
		return err
	}
	return judge(bars)
}

type oddsRun struct {
	in     *installation
	world  *practice.World
	clock  string
	passed time.Duration
}

// seen reports whether a domain is among those that are mailed first.
func seen(domain string) bool {
	name, _, _ := strings.Cut(domain, ".")
	n, _ := strconv.Atoi(name[strings.LastIndexByte(name, '-')+1:])
	return n <= oddsDomains/2
}

func unseen(domain string) bool { return !seen(domain) }

func (b *oddsRun) all() (bars []bar, err error) {
	first, _, err := b.clean("First", 1, seen)
	if err != nil {
		return nil, err
	}
	begun := time.Now()
	_, err = b.mail(first, "First letter")
	if err != nil {
		return nil, err
	}
	if err := b.learnt(1); err != nil {
		return nil, err
	}
	fmt.Printf("mailed, bounces imported, learnt in %v\n\n", time.Since(begun).Round(time.Second))
	var second contract.Run
	for _, list := range []struct {
		name  string
		which uint64
		fits  func(string) bool
	}{{"the same domains", 2, seen}, {"unseen domains", 3, unseen}} {
		run, results, err := b.clean(list.name, list.which, list.fits)
		if err != nil {
			return nil, err
		}
		bars = append(bars, b.judge(list.name, results)...)
		if second.ID == 0 {
			second = run
		}
	}
	more, err := b.byPolicy(second)
	return append(bars, more...), err
}

// clean imports a list and runs it.
func (b *oddsRun) clean(name string, which uint64, fits func(string) bool) (contract.Run, []contract.Result, error) {
	ctx := context.Background()
	var file bytes.Buffer
	if err := b.world.WriteHabits(&file, oddsRows, which, fits); err != nil {
		return contract.Run{}, nil, err
	}
	l, err := b.in.api.Import(ctx, client.File{Name: name + ".csv", Body: &file})
	if err != nil {
		return contract.Run{}, nil, err
	}
	run, err := b.in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "reach-further"})
	if err != nil {
		return run, nil, err
	}
	if run, err = b.in.api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		return run, nil, err
	}
	results, err := b.in.all(run.ID)
	return run, results, err
}

// mail sends a message to each row that a run keeps or holds, imports what bounced, and lets the
// watch end.
func (b *oddsRun) mail(run contract.Run, name string, decisions ...string) (m contract.Mailing, err error) {
	ctx := context.Background()
	if len(decisions) == 0 {
		decisions = []string{"keep", "hold"}
	}
	if m, err = b.in.api.RegisterMailing(ctx, contract.NewMailing{Name: name, RunID: run.ID, Decisions: decisions}); err != nil {
		return m, err
	}
	if m, err = b.until(m, "watching"); err != nil {
		return m, err
	}
	var to []string
	for cursor := ""; ; {
		p, err := b.in.api.MailingLetters(ctx, m.ID, "", cursor)
		if err != nil {
			return m, err
		}
		for _, l := range p.Items {
			to = append(to, l.Address)
		}
		if cursor = p.Next; cursor == "" {
			break
		}
	}
	sent, err := b.in.net.Send(to)
	if err != nil {
		return m, err
	}
	table := bytes.NewBufferString("address,outcome\n")
	for _, a := range sent.Bounced {
		fmt.Fprintf(table, "%s,bounced\n", a)
	}
	if _, err := b.in.api.ImportOutcomes(ctx, map[string]int{"address": 1, "outcome": 2}, map[string]string{"bounced": "bounced"}, table); err != nil {
		return m, err
	}
	b.passed += 73 * time.Hour
	if err := os.WriteFile(b.clock, []byte(b.passed.String()), 0o600); err != nil {
		return m, err
	}
	return b.until(m, "closed")
}

func (b *oddsRun) until(m contract.Mailing, state string) (contract.Mailing, error) {
	for range 600 {
		now, err := b.in.api.Mailing(context.Background(), m.ID)
		if err != nil || now.State == state {
			return now, err
		}
		time.Sleep(200 * time.Millisecond)
	}
	return m, fmt.Errorf("the mailing %q is not %s", m.Name, state)
}

// learnt waits until the workspace has learnt so often.
func (b *oddsRun) learnt(version int) error {
	for range 300 {
		o, err := b.in.api.Odds(context.Background())
		if err != nil || o.Version >= version {
			return err
		}
		time.Sleep(200 * time.Millisecond)
	}
	return fmt.Errorf("nothing was learnt")
}

// judge holds the odds of a run against the truth.
func (b *oddsRun) judge(name string, results []contract.Result) []bar {
	var learnt, table odds.Judged
	arrived := 0
	for _, r := range results {
		if r.Cause != finding.MailboxAnyAccepted {
			continue
		}
		there := truthOf(b.world, r).Deliverable()
		if there {
			arrived++
		}
		learnt.Judge(r.Odds, there)
		table.Judge(finding.Odds(r.Finding, r.Cause, r.Traits), there)
	}
	base := odds.BaseRate(arrived, learnt.Messages)
	out := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintf(out, "%s, %d catch-all addresses\tBrier score\tlog loss\n", name, learnt.Messages)
	for _, row := range []struct {
		what string
		odds.Judged
	}{{"learnt", learnt}, {"the base rate, known afterwards", base}, {"the shipped table", table}} {
		fmt.Fprintf(out, "%s\t%.3f\t%.3f\n", row.what, row.Brier, row.LogLoss)
	}
	fmt.Fprintln(out, "\nodds\taddresses\tpromised\tarrived\toff by")
	worst := 0.0
	for i, t := range learnt.Tenths {
		if t.Messages > 0 {
			worst = max(worst, t.Off())
			fmt.Fprintf(out, "%d to %d in 100\t%d\t%.0f\t%d\t%.1f\n", 10*i, 10*i+10, t.Messages, t.Promised, t.Arrived, t.Off())
		}
	}
	fmt.Fprintln(out)
	_ = out.Flush()
	return []bar{
		{"Brier score beside that of the base rate, " + name, learnt.Brier / base.Brier, 1, true, ""},
		{"log loss beside that of the base rate, " + name, learnt.LogLoss / base.LogLoss, 1, true, ""},
		{"points by which the worst tenth of the odds is off, " + name, worst, oddsTenthBar, true, ""},
	}
}

// byPolicy mails the rows of a run that a policy keeps by their odds, and holds the bounces against what
// the odds had promised.
func (b *oddsRun) byPolicy(run contract.Run) ([]bar, error) {
	ctx := context.Background()
	p := contract.Policy{Name: "likely", Rules: []contract.PolicyRule{{Do: "keep", Findings: []finding.Finding{finding.CatchAll}, OddsFrom: oddsBar}}, Otherwise: "drop"}
	if _, err := b.in.api.SavePolicy(ctx, p); err != nil {
		return nil, err
	}
	if _, err := b.in.api.ChoosePolicy(ctx, run.ID, p.Name); err != nil {
		return nil, err
	}
	m, err := b.mail(run, "Second letter", "keep")
	if err != nil {
		return nil, err
	}
	if err := b.learnt(2); err != nil {
		return nil, err
	}
	o, err := b.in.api.Odds(ctx)
	if err != nil {
		return nil, err
	}
	bounced, promised := 100*float64(m.Outcomes.Bounced)/float64(m.Letters), 100*(1-o.Judged.Promised/float64(o.Judged.Messages))
	fmt.Printf("kept with odds of %.0f in 100 or more: %d letters; %.1f %% were to bounce by their odds, and %.1f %% did.\n%s\n\n", 100*oddsBar, m.Letters, promised, bounced, o.Judged.Says)
	return []bar{{"points between the bounces of the policy and those that its odds promised", max(bounced-promised, promised-bounced), oddsTenthBar, true, ""}}, nil
}
