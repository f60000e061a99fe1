package main

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func oddsCommand() command {
	return command{"odds", "", "shows what was learnt of catch-all addresses, and how good the odds were", "varnet odds", showOdds, []command{
		{"share", "yes|no", "changes whether outcomes count for other workspaces, and theirs here, as counts of domains", "varnet odds share no", shareOdds, nil},
	}}
}

func showOdds(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Odds, error) { return api.Odds(ctx) }, c.printOdds)
}

func (c *cli) printOdds(o contract.Odds) error {
	fmt.Fprintln(c.out, o.Says)
	if o.Judged.Messages > 0 {
		c.printJudged(o.Judged)
	}
	t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
	if len(o.Factors) > 0 {
		fmt.Fprintln(t, "\nan address that\tweight\tarrived")
		for _, f := range o.Factors {
			fmt.Fprintf(t, "%s\t%+.2f\t%s of %s\n", f.Says, f.Weight, say.Number(f.Arrived), say.Number(f.Of))
		}
	}
	if len(o.Domains) > 0 {
		fmt.Fprintln(t, "\ndomain\tarrived\tnaming habit\todds if it fits\todds if not")
		for _, d := range o.Domains {
			fmt.Fprintf(t, "%s\t%s of %s\t%s\t%s\t%s\n", printable(d.Domain), say.Number(d.Arrived), say.Number(d.Of), d.Habit, in100(d.Fits), in100(d.Otherwise))
		}
	}
	for i, v := range o.History {
		if i == 0 {
			fmt.Fprintln(t)
		}
		fmt.Fprintf(t, "%s\t%s\n", minute(&v.MadeAt, ""), printable(strings.Join(v.Changes, " ")))
	}
	return t.Flush()
}

// in100 are odds in words, "" where there are none.
func in100(p float64) string {
	if p == 0 {
		return ""
	}
	return fmt.Sprintf("%.0f in 100", 100*p)
}

// printJudged tells how good odds were that had been stated.
func (c *cli) printJudged(j contract.JudgedOdds) {
	whose := "learnt"
	if j.ByTable {
		whose = "of the shipped table"
	}
	fmt.Fprintf(c.out, "\nOdds that were stated (%s) against outcomes: %s\n", whose, j.Says)
	t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
	fmt.Fprintln(t, "odds stated\tmessages\twere to arrive\tarrived")
	for _, tenth := range j.Tenths {
		if tenth.Messages > 0 {
			fmt.Fprintf(t, "%.0f to %.0f in 100\t%s\t%.0f\t%s\n", 100*tenth.From, 100*tenth.From+10, say.Number(tenth.Messages), tenth.Promised, say.Number(tenth.Arrived))
		}
	}
	fmt.Fprintln(t, "\nless is better\tBrier score\tlog loss")
	for _, row := range []struct {
		what string
		contract.Score
	}{{"odds that were stated", j.Stated}, {"odds of the shipped table", j.Table}, {"one figure for all, known afterwards", j.BaseRate}} {
		fmt.Fprintf(t, "%s\t%.3f\t%.3f\n", row.what, row.Brier, row.LogLoss)
	}
	_ = t.Flush()
}

func shareOdds(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.OddsSharing, error) {
		s := contract.OddsSharing{Shares: c.args[0] == "yes"}
		if !s.Shares && c.args[0] != "no" {
			return s, c.wrongUse(fmt.Sprintf("outcomes are shared or not: use yes or no, not %q", c.args[0]))
		}
		return s, api.ShareOutcomes(ctx, s.Shares)
	}, func(s contract.OddsSharing) error {
		if s.Shares {
			return c.sentence("Outcomes are shared as counts of domains.")
		}
		return c.sentence("Outcomes are not shared.")
	})
}
