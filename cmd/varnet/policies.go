package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

const policiesForms = `  varnet policies                    all, as sentences
  varnet policies show NAME          one, as the JSON that save and try read
  varnet policies save -file FILE    save one of your own; a change is a new version
  varnet policies delete NAME        delete one of your own; runs keep theirs
  varnet policies try RUN -file FILE what it would do with the rows of a run
  varnet policies use RUN NAME       let it decide on a run; nobody is asked again`

func policiesCommand(ctx context.Context, c *cli, args []string) error {
	connect := c.connect()
	asJSON := c.flags.Bool("json", false, "a JSON object a line")
	file := c.flags.String("file", "", "with save and try: a policy as JSON, - for standard input")
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	switch {
	case len(rest) == 0:
		return c.showPolicies(ctx, connect(), *asJSON)
	case rest[0] == "show" && len(rest) == 2:
		return c.showPolicy(ctx, connect(), rest[1])
	case rest[0] == "save" && len(rest) == 1 && *file != "":
		return c.savePolicy(ctx, connect(), *file)
	case rest[0] == "delete" && len(rest) == 2:
		return connect().DeletePolicy(ctx, rest[1])
	case rest[0] == "try" && len(rest) == 2 && *file != "":
		return c.tryPolicy(ctx, connect(), rest[1], *file)
	case rest[0] == "use" && len(rest) == 3:
		run, err := c.runNumber(rest[1])
		if err != nil {
			return err
		}
		r, err := connect().Decide(ctx, run, rest[2])
		if err == nil {
			fmt.Fprintln(c.out, printable(r.ExportSentence))
		}
		return err
	}
	return c.wrongUse("the forms are below")
}

func (c *cli) showPolicies(ctx context.Context, api *client.Client, asJSON bool) error {
	found, err := api.Policies(ctx)
	if err != nil {
		return err
	}
	if asJSON {
		return printEach(c.out, found)
	}
	for i, p := range found {
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
}

func printSays(w io.Writer, says []string) {
	for i, s := range says {
		fmt.Fprintf(w, "  %d. %s\n", i+1, printable(s))
	}
}

func (c *cli) showPolicy(ctx context.Context, api *client.Client, name string) error {
	p, err := api.Policy(ctx, name)
	if err != nil {
		return err
	}
	e := json.NewEncoder(c.out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	p.Policy.Version = 0 // is given when it is saved
	return e.Encode(p.Policy)
}

// readPolicy reads a policy as JSON. A field that there is not is an error, so
// that no condition is lost by a slip of the pen.
func readPolicy(name string) (p contract.Policy, err error) {
	in := io.Reader(os.Stdin)
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return p, fmt.Errorf("the file %s cannot be read: %w", name, unwrapPath(err))
		}
		defer f.Close()
		in = f
	}
	if err := decodeStrictly(in, &p); err != nil {
		return p, fmt.Errorf("%s: this is no policy: %s; \"varnet policies show careful\" shows how one is written", name, jsonProblem(err))
	}
	if p.Name == "" && name != "-" {
		p.Name = strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
	}
	core := p.Core()
	return p, core.Check()
}

// decodeStrictly reads JSON; a field that there is not is an error.
func decodeStrictly(in io.Reader, to any) error {
	d := json.NewDecoder(in)
	d.DisallowUnknownFields()
	return d.Decode(to)
}

// jsonProblem says what is wrong with a JSON text.
func jsonProblem(err error) string {
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		return fmt.Sprintf("%s at byte %d", syntax, syntax.Offset)
	}
	return strings.TrimPrefix(err.Error(), "json: ")
}

func (c *cli) savePolicy(ctx context.Context, api *client.Client, file string) error {
	p, err := readPolicy(file)
	if err != nil {
		return err
	}
	saved, err := api.SavePolicy(ctx, p)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.out, "%s is saved, version %d.\n", saved.Name, saved.Version)
	printSays(c.out, saved.Says)
	return nil
}

func (c *cli) tryPolicy(ctx context.Context, api *client.Client, word, file string) error {
	run, err := c.runNumber(word)
	if err != nil {
		return err
	}
	p, err := readPolicy(file)
	if err != nil {
		return err
	}
	t, err := api.TryPolicy(ctx, run, p)
	if err != nil {
		return err
	}
	fmt.Fprintln(c.out, printable(t.Sentence))
	return listing[contract.Count]{header: "decision\trows that a rule decides on\trows", line: func(w io.Writer, l contract.Count) {
		fmt.Fprintf(w, "%s\t%s\t%s\n", l.Decision, printable(l.Reason), say.Number(l.Rows))
	}}.show(c.out, t.Rules)
}
