package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func ledgerCommand() command {
	return command{"ledger", "", "shows what came to the allowance in a month and what went, and keeps allowances", "varnet ledger -month 2026-11", showStatement, []command{
		{"export", "", "writes the statement of a month as PDF or CSV, by the name of the file", "varnet ledger export -month 2026-11 -out statement.pdf", exportStatement, nil},
		{"verify", "", "draws up the trial balance of the installation; exits with 1 when the book does not balance", "varnet ledger verify", verifyLedger, nil},
		{"accounts", "", "shows the allowances of all workspaces", "varnet ledger accounts", showAccounts, nil},
		{"keep", "WORKSPACE PLAN", "gives a workspace an allowance under a plan; none: it may check as much as it likes", "varnet ledger keep 2 1", keepAllowance, nil},
		{"grant", "WORKSPACE CHECKS", "gives a workspace checks, or takes some away", "varnet ledger grant 2 5000 -note seed-fair", grantChecks, nil},
		{"plans", "", "shows the plans", "varnet ledger plans", showPlans, []command{
			{"save", "FILE", "makes the plan of a JSON file, or changes one; - is standard input", "varnet ledger plans save clubs.json -change 1", savePlan, nil},
			{"delete", "PLAN", "deletes a plan that no workspace has", "varnet ledger plans delete 2", doOfPlan, nil},
		}},
		{"billing", "", "shows payment provider, seller and taxes", "varnet ledger billing", showBilling, []command{
			{"set", "FILE", "sets them from a JSON file; - is standard input", "varnet ledger billing set billing.json", setBilling, nil},
		}},
		{"pay-back", "PURCHASE", "refunds a purchase", "varnet ledger pay-back 3", payBack, nil},
	}}
}

func showStatement(c *cli) action {
	month := c.flags.String("month", "", "the month, such as 2026-11; this one unless given")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.LedgerStatement, error) {
		if *month == "" {
			*month = thisMonth()
		}
		return api.Statement(ctx, *month)
	}, func(s contract.LedgerStatement) error {
		t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
		fmt.Fprintf(t, "when\twhat\tchecks\theld\n\tHeld at the beginning of %s\t\t%s\n", s.Month, say.Number(s.Before))
		for _, l := range s.Lines {
			fmt.Fprintf(t, "%s\t%s\t%+d\t%s\n", minute(&l.At, ""), printable(l.Says), l.Amount, say.Number(l.Balance))
		}
		if err := t.Flush(); err != nil {
			return err
		}
		return c.sentence(s.Says)
	})
}

func exportStatement(c *cli) action {
	connect := c.connect()
	month := c.flags.String("month", "", "the month, such as 2026-11; this one unless given")
	name := c.flags.String("out", "", "the file to write, .pdf or .csv; - is CSV to standard output")
	return func(ctx context.Context) error {
		if *month == "" {
			*month = thisMonth()
		}
		o, err := c.output(*name)
		if err != nil {
			return err
		}
		format := "csv"
		if strings.EqualFold(filepath.Ext(*name), ".pdf") {
			format = "pdf"
		}
		return o.write(func(w io.Writer) error { return connect().StatementFile(ctx, *month, format, w) })
	}
}

func verifyLedger(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.LedgerCheck, error) {
		return api.VerifyLedger(ctx)
	}, func(v contract.LedgerCheck) error {
		t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', tabwriter.AlignRight)
		sum := int64(0)
		for _, b := range v.Balances {
			fmt.Fprintf(t, "%s\t%s\t\n", b.Account, say.Number(b.Balance))
			sum += b.Balance
		}
		fmt.Fprintf(t, "together\t%s\t\n", say.Number(sum))
		if err := t.Flush(); err != nil {
			return err
		}
		if !v.Right {
			return errors.New(v.Says)
		}
		return c.sentence(v.Says)
	})
}

var accountTable = table[contract.Account]{"There is no workspace yet.", "workspace\tname\tplan\tavailable\tset aside\tused in 30 days", func(w io.Writer, a contract.Account) {
	if !a.Kept {
		fmt.Fprintf(w, "%d\t%s\tnone: as much as it likes\t\t\t\n", a.WorkspaceID, printable(a.Workspace))
		return
	}
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\n", a.WorkspaceID, printable(a.Workspace), printable(a.Plan), say.Number(a.Available), say.Number(a.Reserved), say.Number(a.UsedLately))
}}

func showAccounts(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Account], error) {
		return api.Accounts(ctx)
	}, accountTable.of(c))
}

func keepAllowance(c *cli) action {
	return ask(c, of(c, "workspace", func(api *client.Client, ctx context.Context, id int64) (p contract.Page[contract.Account], err error) {
		if c.args[1] == "none" {
			return api.SetAccountPlan(ctx, id, 0)
		}
		plan, err := c.number(1, "plan")
		if err != nil {
			return p, err
		}
		return api.SetAccountPlan(ctx, id, plan)
	}), accountTable.of(c))
}

func grantChecks(c *cli) action {
	until := c.flags.String("until", "", "the day on which they expire, such as 2027-03-31; never unless given")
	take := c.flags.Bool("take", false, "take them away instead")
	note := c.flags.String("note", "", "what for: it stands on the statement")
	return ask(c, of(c, "workspace", func(api *client.Client, ctx context.Context, id int64) (p contract.Page[contract.Account], err error) {
		g := contract.NewGrant{Note: *note}
		if g.Checks, err = c.checks(1); err != nil {
			return p, err
		}
		if *take {
			g.Checks = -g.Checks
		}
		if *until != "" {
			at, err := time.ParseInLocation(time.DateOnly, *until, time.Local)
			if err != nil {
				return p, c.wrongUse(fmt.Sprintf("-until is a day such as 2027-03-31, not %q", *until))
			}
			g.ExpiresAt = &at
		}
		return api.GrantChecks(ctx, id, g)
	}), accountTable.of(c))
}

var planTable = table[contract.AllowancePlan]{"There is no plan yet. Make one: varnet ledger plans save FILE", "plan\tname\tworkspaces\tterms", func(w io.Writer, p contract.AllowancePlan) {
	fmt.Fprintf(w, "%d\t%s\t%d\t%s\n", p.ID, printable(p.Name), p.Workspaces, planSays(p.PlanTerms))
}}

func showPlans(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.AllowancePlan], error) {
		return api.Plans(ctx)
	}, planTable.of(c))
}

// jsonFile reads the file that is the first argument, all of whose names must be known.
func jsonFile[T any](c *cli) (v T, err error) {
	body, err := c.open(c.args[0])
	if err != nil {
		return v, err
	}
	defer body.Close()
	d := json.NewDecoder(body)
	d.DisallowUnknownFields()
	if err := d.Decode(&v); err != nil {
		return v, fmt.Errorf("the file %s cannot be read: %w", c.args[0], err)
	}
	return v, nil
}

func savePlan(c *cli) action {
	change := c.flags.Int64("change", 0, "the plan that is changed; a new one unless given")
	return ask(c, func(ctx context.Context, api *client.Client) (p contract.AllowancePlan, err error) {
		t, err := jsonFile[contract.PlanTerms](c)
		if err != nil {
			return p, err
		}
		return api.SavePlan(ctx, *change, t)
	}, planTable.one(c))
}

func doOfPlan(c *cli) action { return doOf(c, "plan", (*client.Client).DeletePlan) }

func showBilling(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Billing, error) { return api.Billing(ctx) }, c.printBilling)
}

func setBilling(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (b contract.Billing, err error) {
		n, err := jsonFile[contract.Billing](c)
		if err != nil {
			return b, err
		}
		return api.SetBilling(ctx, n)
	}, c.printBilling)
}

func (c *cli) printBilling(b contract.Billing) error {
	if b.Provider == "" || b.Seller == nil {
		return c.sentence("Nothing can be bought: there is no payment provider, or nobody who sells.")
	}
	rates := make([]string, len(b.Taxes))
	for i, t := range b.Taxes {
		rates[i] = fmt.Sprintf("%s %s %.2f %%", t.Country, t.Name, float64(t.Rate)/100)
	}
	text := fmt.Sprintf("%s sells; the payment provider is %s, which calls %s.", printable(b.Seller.Name), printable(b.Provider), b.Calls)
	if len(rates) > 0 {
		text += " Taxes: " + printable(strings.Join(rates, ", ")) + "."
	}
	return c.sentence(text)
}

func payBack(c *cli) action {
	return ask(c, of(c, "purchase", (*client.Client).PayBack), func(p contract.Purchase) error {
		return c.sentence(fmt.Sprintf("The provider is asked to refund purchase %d.", p.ID))
	})
}
