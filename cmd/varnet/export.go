package main

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func exportCommand() command {
	return command{"export", "RUN [-out FILE]", "exports the rows of a run", "varnet export 12 -decision hold -out held.csv", export, nil}
}

// choosing adds the flags that choose and shape the rows of an export.
func (c *cli) choosing() func() contract.ExportChoice {
	var how contract.ExportChoice
	for _, f := range []struct {
		to                     *string
		name, otherwise, usage string
	}{
		{&how.Decision, "decision", "keep", "which rows: keep, hold, drop or all"},
		{&how.Form, "form", "rows", "rows: as they were imported; results: with result columns; addresses: nothing else; suppression: address and reason"},
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
	c.flags.Float64Var(&how.OddsFrom, "odds-from", 0, "only rows with at least these odds, 0 to 1")
	c.flags.Float64Var(&how.OddsBelow, "odds-below", 0, "only rows with odds below this, 0 to 1; 0: any")
	c.flags.IntVar(&how.After, "after", 0, "with -form results: the column after which the result columns are put, from 1; 0: right after the address column")
	c.flags.BoolVar(&how.Semicolons, "semicolons", false, "for spreadsheets of a locale with decimal commas")
	c.flags.BoolVar(&how.Guard, "guard", false, "make your own cells harmless that a spreadsheet would run as formulas; result columns always are")
	c.flags.IntVar(&how.RowsEach, "rows-each", 0, "split into files of at most N rows, in a zip")
	c.flags.IntVar(&how.Every, "every", 0, "only every nth row")
	c.flags.IntVar(&how.Sample, "sample", 0, "only a random sample of N of the rows")
	return func() contract.ExportChoice {
		how.Columns = fields(*columns)
		return how
	}
}

func export(c *cli) action {
	connect, asJSON := c.connect(), c.asJSON()
	out := c.flags.String("out", "", "the file to write; - is standard output")
	dry := c.flags.Bool("dry-run", false, "describe what the file would hold, and write none")
	choice := c.choosing()
	return func(ctx context.Context) error {
		run, err := c.number(0, "run")
		if err != nil {
			return err
		}
		switch {
		case *out == "" && !*dry:
			return c.wrongUse("-out FILE is missing; -dry-run says what it would hold")
		case *asJSON && !*dry:
			return c.wrongUse("-json goes with -dry-run")
		case *dry && *asJSON:
			preview, err := connect().ExportPreview(ctx, run, choice())
			if err != nil {
				return err
			}
			return c.printJSON(preview)
		case *dry:
			return c.exportPreview(ctx, connect(), run, choice(), c.out)
		}
		to, err := c.output(*out)
		if err != nil {
			return err
		}
		return c.export(ctx, connect(), run, choice(), to)
	}
}

// exportPreview says what the file will hold.
func (c *cli) exportPreview(ctx context.Context, api *client.Client, run int64, how contract.ExportChoice, w io.Writer) error {
	t, err := api.ExportPreview(ctx, run, how)
	if err != nil {
		return err
	}
	fmt.Fprintln(w, printable(t.Sentence))
	spreadsheet := slices.Contains([]string{"spreadsheet", "original", ""}, how.Format)
	if t.Formulas > 0 && spreadsheet && !how.Guard {
		fmt.Fprintf(w, "Notice: %s of the list %s a cell of yours that a spreadsheet would run as a formula; -guard makes such cells harmless.\n",
			say.Rows(t.Formulas), map[bool]string{true: "has", false: "have"}[t.Formulas == 1])
	}
	return nil
}

// export says what the file will hold, and writes it.
func (c *cli) export(ctx context.Context, api *client.Client, run int64, how contract.ExportChoice, to output) error {
	if err := c.exportPreview(ctx, api, run, how, c.words(to)); err != nil {
		return err
	}
	return c.writtenTo(to, c.exported(ctx, api, run, how))
}

// exported writes the rows.
func (c *cli) exported(ctx context.Context, api *client.Client, run int64, how contract.ExportChoice) func(io.Writer) error {
	return func(w io.Writer) error { return api.ExportFile(ctx, run, how, w) }
}

// writtenTo writes a file and says so.
func (c *cli) writtenTo(to output, content func(io.Writer) error) error {
	err := to.write(content)
	if err == nil && to.std == nil {
		err = c.sentence("Written to " + to.name + ".")
	}
	return err
}

func reportCommand() command {
	return command{"report", "RUN -out FILE", "writes the one-page report of a run, as PDF or HTML", "varnet report 12 -out spring.pdf -zone Europe/Berlin", report, nil}
}

func report(c *cli) action {
	connect := c.connect()
	out := c.flags.String("out", "", "the file to write; - is standard output")
	format := c.flags.String("format", "", "pdf or html; by the file's ending unless given")
	zone := c.flags.String("zone", "UTC", "the time zone in which times are shown, such as Europe/Berlin")
	return func(ctx context.Context) error {
		run, err := c.number(0, "run")
		if err != nil {
			return err
		}
		if *format == "" {
			*format = strings.TrimPrefix(strings.ToLower(filepath.Ext(*out)), ".")
		}
		if *format != "pdf" && *format != "html" {
			return c.wrongUse("the file ends in .pdf or .html, or -format says which it is to be")
		}
		to, err := c.output(*out)
		if err != nil {
			return err
		}
		return c.writtenTo(to, func(w io.Writer) error { return connect().Report(ctx, run, *format, *zone, w) })
	}
}
