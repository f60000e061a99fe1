package main

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func policiesCommand() command {
	return command{"policies", "", "shows the policies as sentences, and changes them", "varnet policies", showPolicies, []command{
		{"show", "NAME", "shows one policy as the JSON that save and try read", "varnet policies show careful > mine.json", showPolicy, nil},
		{"save", "-file FILE", "saves a policy of your own; a change is a new version", "varnet policies save -file spring.json", savePolicy, nil},
		{"delete", "NAME", "deletes a policy of your own; runs keep theirs", "varnet policies delete spring", deletePolicy, nil},
		{"try", "RUN -file FILE", "says what a policy would do with the rows of a run", "varnet policies try 12 -file spring.json", tryPolicy, nil},
		{"use", "RUN NAME", "lets a policy decide on a run; nobody is asked again", "varnet policies use 12 spring", usePolicy, nil},
	}}
}

func showPolicies(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.KnownPolicy], error) {
		return whole(api.Policies(ctx))
	}, func(page contract.Page[contract.KnownPolicy]) error {
		for i, p := range page.Items {
			if i > 0 {
				fmt.Fprintln(c.out)
			}
			kind := "ready-made"
			if !p.Ready {
				kind = fmt.Sprintf("your own, version %d", p.Version)
			}
			fmt.Fprintf(c.out, "%s (%s)\n", p.Name, kind)
			if p.For != "" {
				fmt.Fprintln(c.out, "  "+printable(p.For))
			}
			printSays(c.out, p.Says)
		}
		return nil
	})
}

func printSays(w io.Writer, says []string) {
	for i, s := range says {
		fmt.Fprintf(w, "  %d. %s\n", i+1, printable(s))
	}
}

// showPolicy prints JSON without being asked for it: what it prints is to be changed and
// saved.
func showPolicy(c *cli) action {
	return do(c, func(ctx context.Context, api *client.Client) error {
		p, err := api.Policy(ctx, c.args[0])
		if err != nil {
			return err
		}
		p.Policy.Version = 0 // is given when it is saved
		return c.printJSON(p.Policy)
	})
}

// policyFile adds the flag of a policy's file, and returns what reads it.
func (c *cli) policyFile() func() (contract.Policy, error) {
	name := c.flags.String("file", "", "a policy as JSON; - is standard input")
	return func() (p contract.Policy, err error) {
		text, err := c.read(*name)
		if err != nil {
			return p, err
		}
		if err := decodeStrictly(text, &p); err != nil {
			return p, fmt.Errorf("%s: this is not a policy: %w; \"varnet policies show careful\" shows how one is written", *name, err)
		}
		if p.Name == "" && *name != "-" {
			p.Name = strings.TrimSuffix(filepath.Base(*name), filepath.Ext(*name))
		}
		core := p.Core()
		return p, core.Check()
	}
}

func savePolicy(c *cli) action {
	file := c.policyFile()
	return ask(c, func(ctx context.Context, api *client.Client) (saved contract.KnownPolicy, err error) {
		p, err := file()
		if err != nil {
			return saved, err
		}
		return api.SavePolicy(ctx, p)
	}, func(saved contract.KnownPolicy) error {
		err := c.sentence(fmt.Sprintf("%s is saved, version %d.", saved.Name, saved.Version))
		printSays(c.out, saved.Says)
		return err
	})
}

func deletePolicy(c *cli) action {
	return do(c, func(ctx context.Context, api *client.Client) error { return api.DeletePolicy(ctx, c.args[0]) })
}

func tryPolicy(c *cli) action {
	file := c.policyFile()
	rules := table[contract.Count]{header: "decision\trows that a rule decides on\trows", line: func(w io.Writer, l contract.Count) {
		fmt.Fprintf(w, "%s\t%s\t%s\n", l.Decision, printable(l.Reason), say.Number(l.Rows))
	}}
	return ask(c, of(c, "run", func(api *client.Client, ctx context.Context, run int64) (t contract.Trial, err error) {
		p, err := file()
		if err != nil {
			return t, err
		}
		return api.TryPolicy(ctx, run, p)
	}), func(t contract.Trial) error {
		if err := c.sentence(t.Sentence); err != nil {
			return err
		}
		return rules.of(c)(contract.Page[contract.Count]{Items: t.Rules})
	})
}

func usePolicy(c *cli) action {
	return ask(c, of(c, "run", func(api *client.Client, ctx context.Context, run int64) (contract.Run, error) {
		return api.Decide(ctx, run, c.args[1])
	}), func(r contract.Run) error { return c.sentence(r.ExportSentence) })
}
