package main

import (
	"context"
	"fmt"
	"os"
	"text/tabwriter"

	"varnet/internal/contract"
	"varnet/internal/steal"
)

const (
	checkPort  = 2721
	checkTurns = 6   // of each kind, one after the other
	checkEach  = 150 // checks of a turn
	checkOwn   = 5   // ms: the bar of our own share
)

// check measures what Varnet adds to what the mail hosts take of a single check, where nothing else goes on: without
// an allowance, and with one, in which each check is set aside and charged.
func check() error {
	in, err := installPlain(checkPort)
	if err != nil {
		return err
	}
	defer in.stop()
	if err := in.roomy(); err != nil {
		return err
	}
	ctx := context.Background()
	plan, err := in.api.SavePlan(ctx, 0, contract.PlanTerms{Name: "Bench", MailboxCost: 1, Grant: 1_000_000})
	if err != nil {
		return err
	}
	kinds := []string{"without an allowance", "with one"}
	by := []map[string]*tried{triedBy(), triedBy()}
	p, err := in.program()
	if err != nil {
		return err
	}
	defer p.stop()
	addresses, hosts := addressesOf(in.net.World, 50_000), hostsByDomain(in.net)
	watch := steal.Begin()
	defer watch.End()
	for turn := range 2 * checkTurns {
		with := (turn + turn/2) % 2 // 0 1 1 0 0 1 …: neither is always first
		if _, err := in.api.SetAccountPlan(ctx, 1, []int64{0, plan.ID}[with]); err != nil {
			return err
		}
		for i := range checkEach {
			p.checkInto(by[with], addresses[(turn*checkEach+i)*7%len(addresses)], hosts)
		}
	}
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(t, "one check after the other\t\tchecks\tp50\tp95\tp99\tin calm moments\tp50\tp95\tp99\t")
	var bars []bar
	for with, kind := range kinds {
		calm, err := settle(by[with], watch)
		if err != nil {
			return err
		}
		for _, part := range []string{aCheck, bareCheck, ownShare} {
			fmt.Fprintf(t, "%s\t%s\t%s%s\n", kind, part, by[with][part].figures(), calm[part].figures())
		}
		what := "p95 of our share of a check, " + kind
		bars = append(append(bars, bar{what, ms(by[with][ownShare].share(0.95)), checkOwn, true, " ms"}), calmBar(calm[ownShare], what, checkOwn)...)
	}
	_ = t.Flush()
	return judge(bars)
}
