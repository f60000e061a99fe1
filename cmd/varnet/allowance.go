package main

import (
	"context"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"varnet/core/ledger"
	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func allowanceCommand() command {
	return command{"allowance", "", "shows how many checks the workspace may still use, and buys more", "varnet allowance", showAllowance, []command{
		{"price", "CHECKS", "says what a number of checks costs, step by step", "varnet allowance price 142853", showPrice, nil},
		{"buy", "CHECKS", "orders checks, and says where they are paid; for persons (varnet sign-in), not for keys", "varnet allowance buy 142853", buyChecks, nil},
		{"purchases", "", "shows what was bought, newest first", "varnet allowance purchases", showPurchases, nil},
		{"invoice", "PURCHASE", "writes an invoice, which is the receipt too, as PDF", "varnet allowance invoice 3 -out invoice.pdf", writeInvoice, nil},
	}}
}

func showAllowance(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Allowance, error) { return api.Allowance(ctx) }, func(a contract.Allowance) error {
		if !a.Kept {
			return c.sentence("This workspace has no allowance: it may check as much as it likes.")
		}
		text := a.Says
		if a.Low > 0 {
			text += fmt.Sprintf(" A warning comes when fewer than %s are left.", say.Number(a.Low))
		}
		if a.Refill != nil {
			text += fmt.Sprintf(" Under %s, %s are bought automatically, at most %s in 30 days.", say.Number(a.Refill.Under), say.Number(a.Refill.Buy), say.Plural(int64(a.Refill.Most), "time", "times"))
		}
		if a.Subscription > 0 {
			text += fmt.Sprintf(" %s are bought each month.", say.Number(a.Subscription))
		}
		return c.sentence(text)
	})
}

// checks returns the number of checks that is an argument.
func (c *cli) checks(at int) (n int64, err error) {
	if _, err := fmt.Sscan(c.args[at], &n); err != nil || fmt.Sprint(n) != c.args[at] {
		return 0, c.wrongUse(fmt.Sprintf("CHECKS is a number, such as 142853, not %q", c.args[at]))
	}
	return n, nil
}

func showPrice(c *cli) action {
	subscription := c.flags.Bool("subscription", false, "as a subscription, each month")
	return ask(c, func(ctx context.Context, api *client.Client) (p contract.Price, err error) {
		n, err := c.checks(0)
		if err != nil {
			return p, err
		}
		return api.Price(ctx, contract.PriceQuestion{Checks: n, Subscription: *subscription})
	}, c.printPrice)
}

func (c *cli) printPrice(p contract.Price) error {
	for _, l := range p.Lines {
		fmt.Fprintln(c.out, l.Says)
	}
	if p.Cheaper > 0 {
		fmt.Fprintf(c.out, "Cheaper by %d %%, as a subscription.\n", p.Cheaper)
	}
	if p.TaxSays != "" {
		fmt.Fprintln(c.out, p.TaxSays)
	}
	return c.sentence(fmt.Sprintf("%s cost %s.", say.Plural(p.Checks, "check", "checks"), p.Says))
}

func buyChecks(c *cli) action {
	remember := c.flags.Bool("remember", false, "store the payment method at the provider, for refills and the subscription")
	return ask(c, func(ctx context.Context, api *client.Client) (p contract.Purchase, err error) {
		n, err := c.checks(0)
		if err != nil {
			return p, err
		}
		return api.Buy(ctx, contract.PurchaseOrder{Checks: n, Remember: *remember})
	}, func(p contract.Purchase) error {
		return c.sentence(fmt.Sprintf("Purchase %d of %s for %s is paid at %s", p.ID, say.Plural(p.Checks, "check", "checks"), p.Says, printable(p.Page)))
	})
}

var purchaseTable = table[contract.Purchase]{"Nothing was bought yet.", "purchase\tordered\tby\tchecks\ttotal\tstate\tinvoice", func(w io.Writer, p contract.Purchase) {
	papers := p.Invoice
	if p.CreditNote != "" {
		papers += ", " + p.CreditNote
	}
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\t%s\n", p.ID, minute(&p.MadeAt, ""), p.Why, say.Number(p.Checks), p.Says, p.State, papers)
}}

func showPurchases(c *cli) action {
	page := c.paged()
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Purchase], error) {
		return api.Purchases(ctx, page())
	}, purchaseTable.of(c))
}

func writeInvoice(c *cli) action {
	credit := c.flags.Bool("credit", false, "its credit note instead")
	var id int64
	return saves(c, func() (err error) { id, err = c.number(0, "purchase"); return err }, func(ctx context.Context, api *client.Client, w io.Writer) error {
		return api.Invoice(ctx, id, *credit, w)
	})
}

func usageCommand() command {
	return command{"usage", "", "shows what was charged for what", "varnet usage -by run -days 90", showUsage, []command{
		{"export", "", "writes the same as CSV", "varnet usage export -by person -out usage.csv", exportUsage, nil},
	}}
}

// usageFlags add what usage is asked for, and return it.
func (c *cli) usageFlags() (by *string, from func() string) {
	by = c.flags.String("by", "day", "what it is counted by: day, run, routine, connection, key or person")
	days := c.flags.Int("days", 30, "of how many days up to now")
	return by, func() string { return time.Now().AddDate(0, 0, -*days).UTC().Format(time.RFC3339) }
}

func showUsage(c *cli) action {
	by, from := c.usageFlags()
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Usage, error) {
		return api.Usage(ctx, *by, from(), "")
	}, func(u contract.Usage) error {
		t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
		fmt.Fprintf(t, "%s\tchecks\truns and checks\n", u.By)
		for _, i := range u.Items {
			label := printable(i.Label)
			if i.ID != 0 {
				label = fmt.Sprintf("%s (%s %d)", label, u.By, i.ID)
			}
			fmt.Fprintf(t, "%s\t%s\t%s\n", label, say.Number(i.Checks), say.Number(i.Times))
		}
		fmt.Fprintf(t, "together\t%s\t\n", say.Number(u.Sum))
		return t.Flush()
	})
}

func exportUsage(c *cli) action {
	by, from := c.usageFlags()
	return saves(c, nil, func(ctx context.Context, api *client.Client, w io.Writer) error {
		return api.UsageFile(ctx, *by, from(), "", w)
	})
}

// thisMonth is the month of today, as statements are named.
func thisMonth() string { return time.Now().Format("2006-01") }

// money writes an amount of a plan's currency.
func money(p contract.PlanTerms, amount int64) string { return ledger.Money(p.Currency, amount) }

// planSays tells the terms of a plan.
func planSays(p contract.PlanTerms) string {
	var says []string
	if p.Grant > 0 {
		kept := "kept for ever"
		if p.Keep > 0 {
			kept = "kept for " + say.Plural(int64(p.Keep), "month", "months")
		}
		says = append(says, fmt.Sprintf("%s a month, %s", say.Plural(p.Grant, "check", "checks"), kept))
	}
	before := int64(0)
	for _, s := range p.Steps {
		to := "any number"
		if s.UpTo > 0 {
			to = say.Number(s.UpTo)
		}
		says = append(says, fmt.Sprintf("%s to %s at %s a thousand", say.Number(before+1), to, money(p, s.PerThousand)))
		before = s.UpTo
	}
	if p.Urgent > 0 {
		says = append(says, fmt.Sprintf("urgent runs at %d times the cost", p.Urgent))
	}
	return strings.Join(says, "; ")
}
