package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"varnet/internal/client"
	"varnet/internal/contract"
)

// inParts is from which size on a file is sent part by part.
const inParts = 8 << 20

func cleanCommand() command {
	return command{"clean", "FILE -out FILE", "does the whole job: imports a list, verifies it, exports the kept rows", "varnet clean members.csv -out kept.csv", clean, nil}
}

func clean(c *cli) action {
	connect, asJSON := c.connect(), c.asJSON()
	out := c.flags.String("out", "", "the file to write the kept rows to; - is standard output")
	n := c.chosenRun()
	file := c.importing()
	return func(ctx context.Context) error {
		api := connect()
		to, err := c.tried(ctx, api, *out, n.Policy, *asJSON)
		if err != nil {
			return err
		}
		tell := func(text string) {
			if !*asJSON {
				fmt.Fprintln(c.words(to), printable(text))
			}
		}
		l, err := file(ctx, api, c.args[0])
		if err != nil {
			return err
		}
		tell(l.Sentence)
		if err := c.warn(ctx, api); err != nil {
			return err
		}
		r, err := api.StartRun(ctx, l.ID, *n)
		if err != nil {
			return err
		}
		if r, err = c.follow(ctx, api, r.ID, 0); err != nil {
			return err
		}
		for _, n := range r.Notices {
			tell("Notice: " + n)
		}
		if *asJSON {
			if err := to.write(c.exported(ctx, api, r.ID, contract.ExportChoice{})); err != nil {
				return err
			}
			return c.printJSON(r)
		}
		return c.export(ctx, api, r.ID, contract.ExportChoice{}, to)
	}
}

// tried finds out, before anything is imported, that the files can be read and written and
// that there is such a policy.
func (c *cli) tried(ctx context.Context, api *client.Client, out, policy string, asJSON bool) (output, error) {
	if out == "-" && asJSON {
		return output{}, c.wrongUse("-json and -out - would both write to standard output; give one of them")
	}
	to, err := c.output(out)
	if err != nil {
		return to, err
	}
	if err = findable(c.args[0]); err == nil {
		_, err = api.Policy(ctx, policy)
	}
	return to, err
}

// importing adds the flags of a file to be imported, and returns what imports it.
func (c *cli) importing() func(context.Context, *client.Client, string) (contract.List, error) {
	name := c.flags.String("name", "", "the list's name; the file's name unless given")
	columns := c.flags.String("column", "", "the column that holds the addresses, from 1, or several with commas between; a row is decided on by the first address that can be kept")
	same := c.flags.Bool("same-mailbox", false, "tell duplicates as the operators do: dots or tags left out where they make no difference")
	into := c.flags.Int64("into", 0, "import the file for this list, which is there")
	mode := c.flags.String("mode", "append", "with -into: append to its rows, replace them, or update those with the same address")
	rowKey := c.flags.String("row-key", "", "with -mode update: the column by which rows are found again; the address unless given")
	holds := c.holds()
	written := c.written()
	return func(ctx context.Context, api *client.Client, from string) (l contract.List, err error) {
		f := client.File{Name: "standard input", List: *name, SameMailbox: *same, Written: written(), Holds: *holds}
		if f.AddressColumns, err = c.columnNumbers(*columns); err != nil {
			return l, err
		}
		body, err := c.open(from)
		if err != nil {
			return l, err
		}
		defer body.Close()
		f.Body = body
		if file, ok := body.(*os.File); ok {
			f.Name = filepath.Base(from)
			if info, err := file.Stat(); err == nil && info.Mode().IsRegular() && info.Size() > inParts {
				f.Key, f.Size = rand.Text(), info.Size()
			}
		}
		if *into > 0 {
			f.Again, f.Mode, f.RowKey = *into, *mode, *rowKey
		}
		if l, err = api.Import(ctx, f); err != nil {
			return l, fmt.Errorf("%s: %w", f.Name, err)
		}
		return l, nil
	}
}

// columnNumbers reads columns counted from 1.
func (c *cli) columnNumbers(list string) (out []int, err error) {
	for _, w := range fields(list) {
		n, err := strconv.Atoi(w)
		if err != nil || n < 1 {
			return nil, c.wrongUse(fmt.Sprintf("%q is not the number of a column; the first is 1", w))
		}
		out = append(out, n-1)
	}
	return out, nil
}

// written adds the flags that overrule how a file is read.
func (c *cli) written() func() url.Values {
	flags := map[string]*string{
		"sheet":     c.flags.String("sheet", "", "the sheet of a spreadsheet; the first with something on it unless given"),
		"delimiter": c.flags.String("delimiter", "guess", "the delimiter between cells: guess, one character, tab or none"),
		"quote":     c.flags.String("quote", "guess", "the quotes around cells: guess, double, single or none"),
		"encoding":  c.flags.String("encoding", "guess", "the text encoding: guess, or a name such as windows-1250"),
		"header":    c.flags.String("header", "guess", "whether the first record names the columns: guess, yes or no"),
	}
	return func() url.Values {
		q := url.Values{}
		for name, value := range flags {
			q.Set(name, strings.TrimSpace(*value))
		}
		return q
	}
}
