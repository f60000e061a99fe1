package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"

	"varnet/core/route"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func checkCommand() command {
	return command{"check", "ADDRESS…", "checks addresses now; - reads them from standard input, one a line", "varnet check ada.moss@fernhollow.example", check, nil}
}

// checkedAtOnce is how many addresses the API checks in one call.
const checkedAtOnce = 50

func check(c *cli) action {
	verbose := c.flags.Bool("v", false, "all that was seen, in words")
	return ask(c, func(ctx context.Context, api *client.Client) (page contract.Page[contract.Evidence], err error) {
		addresses, err := c.lines(0)
		if err != nil {
			return page, err
		}
		for part := range slices.Chunk(addresses, checkedAtOnce) {
			found, err := api.Check(ctx, part)
			if err != nil {
				return page, err
			}
			page.Items = append(page.Items, found...)
		}
		return page, nil
	}, func(page contract.Page[contract.Evidence]) error {
		t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
		for _, r := range page.Items {
			fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", printable(r.Typed), r.Finding, r.Cause, r.Decision, r.Title)
			if *verbose {
				if err := t.Flush(); err != nil {
					return err
				}
				c.printEvidence(r)
			}
		}
		return t.Flush()
	})
}

// printEvidence tells what was seen, as a list manager reads it.
func (c *cli) printEvidence(e contract.Evidence) {
	say := func(format string, args ...any) { fmt.Fprintln(c.out, printable("    "+fmt.Sprintf(format, args...))) }
	say("What it means: %s", e.Meaning)
	say("What to do:    %s", e.Advice)
	say("Odds:          %.0f in 100 that a message sent now would be delivered", e.Odds*100)
	for i, odds := 0, 1.0; e.Odds > 0 && i < len(e.Factors); i++ {
		f := e.Factors[i]
		odds *= f.Times
		say("               %3.0f  %s (%s)", 100*odds, f.What, f.Basis)
	}
	if e.Problem != "" {
		say("In the text:   %s", e.Problem)
	}
	for _, m := range e.Mended {
		say("Mended:        %s", m)
	}
	for _, t := range e.Traits {
		say("Trait:         %s", t)
	}
	if e.Suggestion != "" {
		say("Did you mean: %s", e.Suggestion)
	}
	if e.DNS != nil {
		for _, a := range e.DNS.Answers {
			say("DNS:           %s %s: %s (%s, %.1f ms) %s%s", a.Name, a.Type, a.Status, a.Server, a.TookMS, records(a), a.Problem)
		}
	}
	for _, q := range e.Asked {
		if q.Conversation != nil {
			by := ""
			if r := q.Conversation.Route; r != "" && r != string(route.Direct) {
				by = " by " + r
			}
			say("Mail host:     %s (%s), asked as %s%s", q.Conversation.Exchanger, q.Conversation.Addr, q.Conversation.Identity.Name, by)
		}
		if q.Reply != "" {
			say("It answered:   %s", q.Reply)
		}
		say("Read as:       %s", q.Why)
	}
	if e.Acceptance != nil {
		answered := e.Acceptance.Answered()
		for _, m := range answered {
			say("Made-up:       %s was answered: %s", m.Mailbox, m.Reply)
		}
		if n := len(e.Acceptance.MadeUp) - len(answered); n > 0 {
			more := ""
			if len(answered) > 0 {
				more = " more"
			}
			say("Made-up:       %d%s got no answer that tells", n, more)
		}
		say("So this host:  %s", e.AcceptanceSays)
	}
	fmt.Fprintln(c.out)
}

// records joins what a lookup found.
func records(a contract.Answer) string {
	var found []string
	for _, m := range a.MX {
		found = append(found, fmt.Sprintf("%d %s", m.Preference, m.Host))
	}
	for _, ip := range a.Addrs {
		found = append(found, ip.String())
	}
	return strings.Join(found, ", ")
}
