package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"text/tabwriter"
	"time"

	"varnet/internal/contract"
)

// turnsOfLedger is how often the list is run without an allowance, and with one.
const turnsOfLedger = 5

// ledgerBench runs the same list in turns without an allowance and with one, on hosts that answer at
// once, and tells how much longer the runs take that are charged; and how long it takes to verify the
// book afterwards.
func ledgerBench() error {
	in, err := installPlain(2705)
	if err != nil {
		return err
	}
	defer in.stop()
	file, err := writeRows(in.net.World, intakeRows)
	if err != nil {
		return err
	}
	defer os.Remove(file)
	ctx := context.Background()
	l, err := importFile(ctx, in.api, file)
	if err != nil {
		return err
	}
	plan, err := in.api.SavePlan(ctx, 0, contract.PlanTerms{Name: "Bench", MailboxCost: 1, Grant: 1_000_000_000})
	if err != nil {
		return err
	}
	if _, err := in.listRun(ctx, l.ID); err != nil { // what is learnt of hosts by a first one is not measured
		return err
	}
	var took [2][]float64 // without, with
	var worked [2]float64 // seconds of processors, of service and PostgreSQL
	var charged int64
	for turn := range 2 * turnsOfLedger {
		with := (turn + turn/2) % 2 // 0 1 1 0 0 1 …: neither is always first
		if _, err := in.api.SetAccountPlan(ctx, 1, []int64{0, plan.ID}[with]); err != nil {
			return err
		}
		t, used, err := in.measured(func() error { _, err := in.listRun(ctx, l.ID); return err })
		if err != nil {
			return err
		}
		took[with], worked[with] = append(took[with], t.Seconds()), worked[with]+used.service.Seconds()+used.server.Seconds()
	}
	start := time.Now()
	v, err := in.api.VerifyLedger(ctx)
	verified := time.Since(start)
	if err != nil {
		return err
	}
	for _, b := range v.Balances {
		if b.Account == "used" {
			charged = b.Balance
		}
	}
	fmt.Printf("%d addresses, %d runs of each kind; %d checks charged by %d entries, verified in %v\n", l.Addresses, turnsOfLedger, charged, v.Entries, verified.Round(time.Millisecond))
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(t, "a run\tleast\tmiddle\tmost\tprocessors of service and PostgreSQL, all runs\t")
	for i, what := range []string{"without an allowance", "with one"} {
		slices.Sort(took[i])
		fmt.Fprintf(t, "%s\t%.1f s\t%.1f s\t%.1f s\t%.1f s\t\n", what, took[i][0], took[i][turnsOfLedger/2], took[i][turnsOfLedger-1], worked[i])
	}
	_ = t.Flush()
	if !v.Right {
		return errors.New(v.Says)
	}
	return judge([]bar{{what: "a run with an allowance, times one without (middle)", figure: took[1][turnsOfLedger/2] / took[0][turnsOfLedger/2], bar: 1.03, atMost: true},
		{what: "the same of what processors did", figure: worked[1] / worked[0], bar: 1.03, atMost: true}})
}

// listRun runs a list to its end.
func (in *installation) listRun(ctx context.Context, list int64) (contract.Run, error) {
	run, err := in.api.StartRun(ctx, list, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	if err == nil {
		run, err = in.api.Wait(ctx, run.ID, func(contract.Run) {})
	}
	return run, err
}
