package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

// inParts is from which size on a file is sent part by part.
const inParts = 8 << 20

func clean(ctx context.Context, c *cli, args []string) error {
	connect := c.connect()
	out := c.flags.String("out", "", "the file to write the kept rows to")
	name := c.flags.String("name", "", "the list's name; the file's name unless given")
	columns := c.flags.String("column", "", "the column that holds the addresses, from 1, or several with commas between; a row is decided on by the first address that can be kept")
	same := c.flags.Bool("same-mailbox", false, "tell duplicates as the operators do: dots or tags left out where they make no difference")
	by := c.flags.String("policy", "careful", "what decides which rows are kept: careful, reach-further, strict, or a policy of your own")
	reuse := c.flags.Int("reuse-days", 0, "take over results of earlier runs that are younger; 0 asks about all")
	into := c.flags.Int64("into", 0, "bring the file in for this list, which is there")
	mode := c.flags.String("mode", "append", "with -into: append to its rows, replace them, or update those with the same address")
	rowKey := c.flags.String("row-key", "", "with -mode update: the column by which rows are found again; the address unless given")
	written := c.written()
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	if len(rest) != 1 || *out == "" {
		return c.wrongUse("name one file to import, and with -out the file to write")
	}
	addressColumns, err := c.columnNumbers(*columns)
	if err != nil {
		return err
	}
	file, err := openList(rest[0])
	if err != nil {
		return err
	}
	defer file.Close()
	f := client.File{Name: filepath.Base(rest[0]), List: *name, Body: file, AddressColumns: addressColumns, SameMailbox: *same, Written: written()}
	if *into > 0 {
		f.Again, f.Mode, f.RowKey = *into, *mode, *rowKey
	}
	if info, err := file.Stat(); err == nil && info.Size() > inParts {
		f.Key, f.Size = rand.Text(), info.Size()
	}
	l, err := connect().Import(ctx, f)
	if err != nil {
		return fmt.Errorf("%s: %w", rest[0], err)
	}
	fmt.Fprintln(c.out, printable(l.Sentence))
	if err := c.warn(ctx, connect()); err != nil {
		return err
	}
	r, err := connect().StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: *by, ReuseDays: *reuse})
	if err != nil {
		return err
	}
	p := progress{to: c.err, terminal: onTerminal(c.err)}
	r, err = connect().Wait(ctx, r.ID, p.show)
	p.end()
	if err != nil {
		return fmt.Errorf("run %d goes on in the service, but following it failed: %w", r.ID, err)
	}
	for _, n := range r.Notices {
		fmt.Fprintln(c.out, "Notice: "+n)
	}
	return c.exportSentence(ctx, connect(), r.ID, contract.ExportChoice{}, *out)
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
		"delimiter": c.flags.String("delimiter", "guess", "what stands between cells: guess, one character, tab or none"),
		"quote":     c.flags.String("quote", "guess", "what wraps cells: guess, double, single or none"),
		"encoding":  c.flags.String("encoding", "guess", "how letters are written as bytes: guess, or a name such as windows-1250"),
		"header":    c.flags.String("header", "guess", "whether the first record names the columns: guess, yes or no"),
	}
	return func() url.Values {
		q := url.Values{}
		for name, value := range flags {
			q.Set(name, *value)
		}
		return q
	}
}

// openList opens a file to imports.
func openList(name string) (*os.File, error) {
	info, err := os.Stat(name)
	switch {
	case err != nil:
		return nil, fmt.Errorf("the file %s cannot be read: %w", name, unwrapPath(err))
	case info.IsDir():
		return nil, fmt.Errorf("%s is a folder; name a file in it", name)
	}
	return os.Open(name)
}

// printExport says what the file will hold.
func (c *cli) printExport(ctx context.Context, api *client.Client, run int64, how contract.ExportChoice) error {
	t, err := api.ExportPreview(ctx, run, how)
	if err != nil {
		return err
	}
	fmt.Fprintln(c.out, printable(t.Sentence))
	spreadsheet := slices.Contains([]string{"spreadsheet", "original", ""}, how.Format)
	if t.Formulas > 0 && spreadsheet && !how.Guard {
		fmt.Fprintf(c.out, "Notice: %s of the list %s a cell of yours that a spreadsheet would run as a formula; -guard makes such cells harmless.\n",
			say.Rows(t.Formulas), map[bool]string{true: "has", false: "have"}[t.Formulas == 1])
	}
	return nil
}

// exportSentence says what the file will hold and writes it.
func (c *cli) exportSentence(ctx context.Context, api *client.Client, run int64, how contract.ExportChoice, out string) error {
	err := c.printExport(ctx, api, run, how)
	if err != nil {
		return err
	}
	err = writeWhole(out, func(w io.Writer) error { return api.ExportFile(ctx, run, how, w) })
	if err == nil {
		fmt.Fprintf(c.out, "Written to %s.\n", printable(out))
	}
	return err
}

// writeWhole writes a file under its name only when all of it is written.
func writeWhole(name string, write func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(name), ".varnet-*")
	if err != nil {
		return fmt.Errorf("the file %s cannot be written: %w", name, unwrapPath(err))
	}
	defer os.Remove(f.Name())
	err = write(f)
	if err == nil {
		err = f.Chmod(0o644)
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	return err
}

func export(ctx context.Context, c *cli, args []string) error {
	connect := c.connect()
	out := c.flags.String("out", "", "the file to write")
	var how contract.ExportChoice
	for _, f := range []struct {
		to                     *string
		name, otherwise, usage string
	}{
		{&how.Decision, "decision", "keep", "which rows: keep, hold, drop or all"},
		{&how.Form, "form", "rows", "rows: as they were brought; results: with result columns; addresses: nothing else; suppression: address and reason"},
		{&how.Format, "format", "original", "original: as the file was; spreadsheet: CSV that opens in columns; xlsx; ods; jsonl; txt: one address a line"},
		{&how.Policy, "policy", "", "decide by another policy than the run's, which stays"},
		{&how.Apart, "apart", "", "one file for each decision or finding, in a zip with a README"},
		{&how.Finding, "finding", "", "only rows with this finding"},
		{&how.Cause, "cause", "", "only rows with this cause"},
		{&how.Trait, "trait", "", "only rows with this trait"},
		{&how.Domain, "domain", "", "only rows with an address at this domain"},
		{&how.Operator, "operator", "", "only rows with an address whose exchangers this operator runs"},
		{&how.Search, "search", "", "only rows with this text in the address"},
	} {
		c.flags.StringVar(f.to, f.name, f.otherwise, f.usage)
	}
	columns := c.flags.String("columns", "", "with -form results: finding, cause, title, meaning, advice, traits, odds, decision, reason, suggestion, reply, host, checked, with commas between")
	c.flags.Float64Var(&how.OddsFrom, "odds-from", 0, "only rows with odds of so much or more, 0 to 1")
	c.flags.Float64Var(&how.OddsBelow, "odds-below", 0, "only rows with odds under so much, 0 to 1; 0: any")
	c.flags.IntVar(&how.After, "after", 0, "with -form results: the column after which the result columns stand, from 1; 0: right after the address column")
	c.flags.BoolVar(&how.Semicolons, "semicolons", false, "for spreadsheets of a locale with decimal commas")
	c.flags.BoolVar(&how.Guard, "guard", false, "make your own cells harmless that a spreadsheet would run as formulas; result columns always are")
	c.flags.IntVar(&how.RowsEach, "rows-each", 0, "split into files of at most so many rows, in a zip")
	c.flags.IntVar(&how.Every, "every", 0, "only every so-manieth of the rows")
	c.flags.IntVar(&how.Sample, "sample", 0, "only a random sample of so many of the rows")
	dry := c.flags.Bool("dry-run", false, "say what the file would hold, and write none")
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	if len(rest) != 1 || *out == "" && !*dry || !slices.Contains([]string{"keep", "hold", "drop", "all"}, how.Decision) {
		return c.wrongUse("name one run, with -out the file to write or -dry-run, and with -decision keep, hold, drop or all")
	}
	how.Columns = fields(*columns)
	run, err := c.runNumber(rest[0])
	if err != nil {
		return err
	}
	if *dry {
		return c.printExport(ctx, connect(), run, how)
	}
	return c.exportSentence(ctx, connect(), run, how, *out)
}
