package main

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"

	"varnet/core/route"
	"varnet/internal/client"
	"varnet/internal/contract"
)

// connect adds the flags that every command for a running service has.
func (c *cli) connect() func() *client.Client {
	server := c.setting("server", "VARNET_SERVER", "http://127.0.0.1:8025", "the service")
	key := c.setting("key", "VARNET_KEY", "", "a key of your workspace; safer given by the environment")
	return func() *client.Client { return client.New(*server, *key) }
}

func check(ctx context.Context, c *cli, args []string) error {
	connect := c.connect()
	asJSON := c.flags.Bool("json", false, "a JSON object a line, with all evidence")
	verbose := c.flags.Bool("v", false, "all that was seen, in words")
	addresses, err := c.parse(args)
	if err != nil {
		return err
	}
	if len(addresses) == 0 {
		return c.wrongUse("name at least one address")
	}
	const atOnce = 50
	for len(addresses) > 0 {
		n := min(atOnce, len(addresses))
		found, err := connect().Check(ctx, addresses[:n])
		if err != nil {
			return err
		}
		if err := c.printChecked(found, *asJSON, *verbose); err != nil {
			return err
		}
		addresses = addresses[n:]
	}
	return nil
}

func (c *cli) printChecked(found []contract.Evidence, asJSON, verbose bool) error {
	if asJSON {
		return printEach(c.out, found)
	}
	t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
	for _, r := range found {
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", printable(r.Typed), r.Finding, r.Cause, r.Decision, r.Title)
		if verbose {
			if err := t.Flush(); err != nil {
				return err
			}
			c.printEvidence(r)
		}
	}
	return t.Flush()
}

// printEvidence tells what was seen, as a list manager reads it.
func (c *cli) printEvidence(e contract.Evidence) {
	say := func(format string, args ...any) { fmt.Fprintln(c.out, printable("    "+fmt.Sprintf(format, args...))) }
	say("What it means: %s", e.Meaning)
	say("What to do:    %s", e.Advice)
	say("Odds:          %.0f in 100 that a message sent now would be delivered (%s)", e.Odds*100, factors(e.Factors))
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

// factors tells what the odds are made of.
func factors(list []contract.Factor) string {
	var parts []string
	for _, f := range list {
		parts = append(parts, fmt.Sprintf("%s: %.2f", strings.ToLower(f.What), f.Times))
	}
	text := strings.Join(parts, " times ")
	if len(list) > 0 && list[0].Basis != "" {
		text += "; " + list[0].Basis
	}
	return text
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
