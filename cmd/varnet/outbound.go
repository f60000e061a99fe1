package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"varnet/core/outbound"
	"varnet/core/pace"
	"varnet/internal/client"
	"varnet/internal/contract"
)

// outboundCall is one call of "varnet outbound".
type outboundCall struct {
	*cli
	api  *client.Client
	json bool
	file string
}

const outboundForms = `  varnet outbound                        how it stands
  varnet outbound test                   test it
  varnet outbound add KIND LINE…         add resolvers, routes, identities or blocklists; many with -file
  varnet outbound remove ID…             remove some; "remove failed KIND" removes those that failed their test
  varnet outbound rules                  the rules; "rules set FILE" replaces them by a JSON list, as rules -json prints it
  varnet outbound try ADDRESS            which rule fits an address
  varnet outbound operators [PART]       what was learnt about operators; "forget OPERATOR" forgets it
  varnet outbound cap N                  the most sessions at a time with one operator by one route`

func outboundCommand(ctx context.Context, c *cli, args []string) error {
	connect := c.connect()
	s := outboundCall{cli: c}
	c.flags.BoolVar(&s.json, "json", false, "JSON")
	c.flags.StringVar(&s.file, "file", "", "with add: a file with one part a line, so that passwords stand in no history; - for standard input")
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	s.api = connect()
	if len(rest) == 0 {
		return s.shown(s.api.Outbound(ctx))
	}
	does := map[string]func(context.Context, []string) error{
		"test": s.test, "add": s.add, "remove": s.remove, "rules": s.rules, "try": s.try, "operators": s.operators, "forget": s.forget, "cap": s.cap,
	}
	do, ok := does[rest[0]]
	if !ok {
		return c.wrongUse(fmt.Sprintf("there is no %q", rest[0]))
	}
	return do(ctx, rest[1:])
}

// shown shows how outbound stands.
func (s outboundCall) shown(side contract.Outbound, err error) error {
	if err != nil {
		return err
	}
	if s.json {
		return printEach(s.out, []contract.Outbound{side})
	}
	fmt.Fprintln(s.out, readinessText(side.Readiness))
	for _, p := range side.Parts {
		fmt.Fprintln(s.out)
		id := "from the settings"
		if p.ID > 0 {
			id = strconv.FormatInt(p.ID, 10)
		}
		grade := string(p.Grade)
		if grade == "" {
			grade = "not tested"
		}
		fmt.Fprintf(s.out, "%s %s  (%s; %s)\n", p.Kind, printable(p.Name), grade, id)
		for _, c := range p.Checks {
			mark := map[outbound.Grade]string{outbound.Good: "●", outbound.Reservation: "◐", outbound.Bad: "○"}[c.Grade]
			fmt.Fprintf(s.out, "  %s %s\n", mark, printable(c.Says))
			if c.Do != "" {
				fmt.Fprintf(s.out, "    To do: %s\n", printable(c.Do))
			}
		}
		for _, h := range side.Health {
			if p.Kind == outbound.Resolver && h.Server == p.Name && h.Says != "" {
				fmt.Fprintf(s.out, "  ◐ %s\n", printable(h.Says))
			}
		}
		if p.Rests != "" {
			fmt.Fprintln(s.out, "  "+printable(p.Rests))
		}
	}
	fmt.Fprintf(s.out, "\nAt most %d sessions at a time with one operator by one route. %s\n", side.Pace.Cap, side.Pace.Note)
	for i, r := range side.Rules {
		fmt.Fprintf(s.out, "Rule %d: %s\n", i+1, printable(r.Says))
	}
	for _, r := range side.Refusals {
		fmt.Fprintf(s.out, "%s refused us by %s at %s: %s\n", printable(r.Operator), printable(r.Route), r.At.Local().Format("2006-01-02 15:04"), printable(r.Words))
	}
	return nil
}

// readinessText is the verdict with the one thing to do next.
func readinessText(s contract.Readiness) string {
	text := "Outbound is " + string(s.State) + ". " + s.Says
	if s.Next != "" {
		text += "\nNext: " + s.Next
	}
	return printable(text)
}

func (s outboundCall) test(ctx context.Context, _ []string) error {
	return s.shown(s.api.TestOutbound(ctx))
}

func (s outboundCall) add(ctx context.Context, args []string) error {
	if len(args) == 0 || len(args) == 1 && s.file == "" || len(args) > 1 && s.file != "" {
		return s.wrongUse("name what to add: resolver, route, identity or blocklist, then lines, or -file FILE")
	}
	lines := strings.Join(args[1:], "\n")
	if args[0] == string(outbound.Identity) && len(args) == 3 && strings.ContainsAny(args[2], "@<") {
		lines = args[1] + " " + args[2] // an identity's two words, given without quotes
	}
	if s.file != "" {
		text, err := readText(s.file)
		if err != nil {
			return err
		}
		lines = text
	}
	return s.shown(s.api.AddParts(ctx, outbound.Kind(args[0]), lines))
}

// readText reads a small file, or standard input.
func readText(name string) (string, error) {
	if name == "-" {
		text, err := io.ReadAll(io.LimitReader(os.Stdin, 1<<20))
		return string(text), err
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return "", fmt.Errorf("the file %s cannot be read: %w", name, unwrapPath(err))
	}
	return string(text), nil
}

func (s outboundCall) remove(ctx context.Context, args []string) error {
	if len(args) == 2 && args[0] == "failed" {
		r, err := s.api.RemoveFailed(ctx, outbound.Kind(args[1]))
		if err == nil {
			fmt.Fprintf(s.out, "%d removed.\n", r.Removed)
		}
		return err
	}
	if len(args) == 0 {
		return s.wrongUse("name the numbers of what to remove, or say: remove failed KIND")
	}
	for _, a := range args {
		id, err := strconv.ParseInt(a, 10, 64)
		if err != nil {
			return s.wrongUse(fmt.Sprintf("%q is not the number of a part; \"varnet outbound\" shows them", a))
		}
		if err := s.api.RemovePart(ctx, id); err != nil {
			return fmt.Errorf("part %d: %w", id, err)
		}
	}
	return s.shown(s.api.Outbound(ctx))
}

func (s outboundCall) rules(ctx context.Context, args []string) error {
	if len(args) > 0 && (len(args) != 2 || args[0] != "set") {
		return s.wrongUse("say: rules, or: rules set FILE")
	}
	side, err := s.api.Outbound(ctx)
	if len(args) > 0 {
		var text string
		if text, err = readText(args[1]); err != nil {
			return err
		}
		var list []contract.Rule
		if err := decodeStrictly(strings.NewReader(text), &list); err != nil {
			return fmt.Errorf("%s is not a JSON list of rules, as \"varnet outbound rules -json\" prints it: %s", args[1], jsonProblem(err))
		}
		side, err = s.api.SetRules(ctx, list)
	}
	if err != nil {
		return err
	}
	if s.json {
		list := []contract.Rule{}
		for _, r := range side.Rules {
			list = append(list, r.Rule)
		}
		e := json.NewEncoder(s.out)
		e.SetIndent("", "  ")
		return e.Encode(list)
	}
	if len(side.Rules) == 0 {
		fmt.Fprintln(s.out, "There are no rules: everybody is asked alike.")
	}
	for i, r := range side.Rules {
		fmt.Fprintf(s.out, "%d  %s\n", i+1, printable(r.Says))
	}
	return nil
}

func (s outboundCall) try(ctx context.Context, args []string) error {
	if len(args) != 1 {
		return s.wrongUse("name one address")
	}
	t, err := s.api.TryRules(ctx, args[0])
	switch {
	case err != nil:
		return err
	case s.json:
		return printEach(s.out, []contract.Tried{t})
	}
	_, err = fmt.Fprintln(s.out, printable(t.Says))
	return err
}

func (s outboundCall) operators(ctx context.Context, args []string) error {
	found, err := s.api.Operators(ctx, strings.Join(args, " "))
	if err != nil {
		return err
	}
	const none = "Nothing has been learnt about an operator of that name yet."
	return listing[contract.OperatorPace]{s.json, none, "operator\troute\thow it is treated", func(w io.Writer, o contract.OperatorPace) {
		fmt.Fprintf(w, "%s\t%s\t%s\n", printable(o.Operator), printable(o.Route), printable(o.Says))
	}}.show(s.out, found)
}

func (s outboundCall) forget(ctx context.Context, args []string) error {
	if len(args) != 1 {
		return s.wrongUse("name one operator; \"varnet outbound operators\" shows them")
	}
	err := s.api.ForgetOperator(ctx, args[0])
	if err == nil {
		fmt.Fprintf(s.out, "What was learnt about %s is forgotten; it starts again with %d sessions.\n", printable(args[0]), pace.Start().Lanes)
	}
	return err
}

func (s outboundCall) cap(ctx context.Context, args []string) error {
	if len(args) != 1 {
		return s.wrongUse("name one number, 1 to 20")
	}
	n, err := strconv.Atoi(args[0])
	if err != nil || n < 1 || n > 20 {
		return s.wrongUse(fmt.Sprintf("the cap is a number from 1 to 20, not %q", args[0]))
	}
	side, err := s.api.SetOutbound(ctx, contract.OutboundSettings{Cap: n})
	if err == nil {
		fmt.Fprintf(s.out, "At most %d sessions at a time with one operator by one route. %s\n", side.Pace.Cap, side.Pace.Note)
	}
	return err
}

// warn says before a run what the state of outbound means for it.
func (c *cli) warn(ctx context.Context, api *client.Client) error {
	s, err := api.Readiness(ctx)
	if err == nil && s.State == outbound.NotReady {
		fmt.Fprintln(c.err, readinessText(s))
	}
	var told *client.Problem
	if errors.As(err, &told) {
		return err
	}
	return nil
}
