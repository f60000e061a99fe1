package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"varnet/core/catalogue"
	"varnet/core/say"
	core "varnet/core/workshop"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/workshop"
)

func formatOf(name string) string { return string(workshop.Ending(name)) }

// fileOrder is what is to be made of files.
type fileOrder struct {
	first          string
	steps          []contract.WorkshopStep
	split          *contract.WorkshopSplit
	out, countries string
	dry, asJSON    bool
}

// makeOfFiles makes a file, or several, of files, without any service.
func (c *cli) makeOfFiles(ctx context.Context, o fileOrder) (err error) {
	if o.out == "" && !o.dry {
		return c.wrongUse("-out FILE is missing: of files, a file is made")
	}
	f := workshop.Files{First: o.first, Recipe: workshop.RecipeOf(o.steps), Split: workshop.SplitOf(o.split), Catalogue: catalogue.Default(), Now: time.Now}
	if o.countries != "" {
		if f.Country, err = workshop.Countries(o.countries); err != nil {
			return err
		}
	}
	m, err := workshop.BeginFiles(ctx, f)
	if err != nil {
		return err
	}
	defer m.Close()
	switch {
	case o.dry:
		if _, err := m.Look(); err != nil {
			return err
		}
	case o.split != nil:
		return c.writeParts(m, o.out)
	default:
		if err := c.writeMade(m.Table, o.out); err != nil {
			return err
		}
	}
	r, err := m.Report()
	if err != nil || o.out == "-" && !o.dry {
		return err
	}
	j := workshop.JobOf(r, m.Says(r))
	if j.DryRun = o.dry; o.asJSON {
		return c.printJSON(j)
	}
	c.tellMade(j)
	return nil
}

// writeMade writes a table to a file.
func (c *cli) writeMade(t core.Table, out string) error {
	to, err := c.output(out)
	if err != nil {
		return err
	}
	return to.write(func(w io.Writer) error {
		buffered := bufio.NewWriterSize(w, 1<<16)
		return errors.Join(workshop.Write(t, workshop.Ending(out), buffered), buffered.Flush())
	})
}

// writeParts writes the parts of a split to files in a folder, each named by its value.
func (c *cli) writeParts(m *workshop.Making, folder string) error {
	if folder == "-" {
		return c.wrongUse("a split makes several files; name a folder with -out")
	}
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return fmt.Errorf("the folder %s cannot be made: %w", folder, say.WithoutPath(err))
	}
	taken := map[string]bool{}
	var files []*os.File
	err := m.WriteParts(func(p core.Part) (io.Writer, error) {
		name := workshop.FileName(orNothing(p.Value))
		for n := 2; taken[strings.ToLower(name)]; n++ {
			name = workshop.FileName(fmt.Sprintf("%s %d", orNothing(p.Value), n))
		}
		taken[strings.ToLower(name)] = true
		f, err := os.Create(filepath.Join(folder, name))
		if err != nil {
			return nil, err
		}
		files = append(files, f)
		fmt.Fprintf(c.out, "%s: %s\n", printable(f.Name()), say.Rows(p.Rows))
		return f, nil
	})
	for _, f := range files {
		err = errors.Join(err, f.Close())
	}
	return err
}

// tellMade says what was made, or would be.
func (c *cli) tellMade(j contract.WorkshopJob) {
	fmt.Fprintln(c.out, printable(j.Says))
	if len(j.Steps) > 1 {
		for i, s := range j.Steps {
			fmt.Fprintf(c.out, "  %d. %s: %s of %s left\n", i+1, printable(s.Says), say.Number(s.Rows), say.Rows(s.Before))
		}
	}
	for _, p := range j.Parts {
		if len(j.ListIDs) == 0 {
			fmt.Fprintf(c.out, "  %s: %s\n", printable(orNothing(p.Value)), say.Rows(p.Rows))
		}
	}
	if !j.DryRun || len(j.First) == 0 {
		return
	}
	w := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
	fmt.Fprintln(w, "\n"+shortCells(j.Columns))
	for _, row := range j.First {
		fmt.Fprintln(w, shortCells(row))
	}
	_ = w.Flush()
}

// shownCell is how many characters of a cell are shown.
const shownCell = 28

func shortCells(cells []string) string {
	out := make([]string, len(cells))
	for i, c := range cells {
		text := []rune(printable(c))
		if len(text) > shownCell {
			text = append(text[:shownCell-1], '…')
		}
		out[i] = string(text)
	}
	return strings.Join(out, "\t")
}

// profileTable shows what columns are like.
func (c *cli) tellProfiles(all []contract.ColumnProfile) error {
	return table[contract.ColumnProfile]{"The list has no columns.", "column\tempty\tdifferent\tlength\tdates\tcommonest", func(w io.Writer, p contract.ColumnProfile) {
		different := say.Number(p.Distinct)
		if !p.Exact {
			different = "more than " + different
		}
		dates := ""
		if p.Earliest != nil {
			dates = p.Earliest.Format(time.DateOnly) + " to " + p.Latest.Format(time.DateOnly)
		}
		var most []string
		for _, v := range p.Most[:min(len(p.Most), 3)] {
			most = append(most, fmt.Sprintf("%s (%s)", shortCells([]string{v.Value}), say.Number(v.Rows)))
		}
		fmt.Fprintf(w, "%s\t%s of %s\t%s\t%d to %d\t%s\t%s\n", printable(p.Column), say.Number(p.Empty), say.Number(p.Rows), different, p.Shortest, p.Longest, dates, strings.Join(most, ", "))
	}}.of(c)(contract.Page[contract.ColumnProfile]{Items: all})
}

// lookAt makes a command that looks at a list of the service, or at a file without any.
func lookAt[T any](c *cli, ofService func(*client.Client, context.Context, int64) (T, error), ofFile func(context.Context, string) (T, error), tell func(T) error) action {
	connect, asJSON := c.connect(), c.asJSON()
	return func(ctx context.Context) (err error) {
		var found T
		if id, ok := listNumber(c.args[0]); ok {
			found, err = ofService(connect(), ctx, id)
		} else if ofFile == nil {
			return c.wrongUse(fmt.Sprintf("%q is not the number of a list", c.args[0]))
		} else {
			found, err = ofFile(ctx, c.args[0])
		}
		switch {
		case err != nil:
			return err
		case *asJSON:
			return c.printJSON(found)
		}
		return tell(found)
	}
}

func showDomains(c *cli) action {
	return lookAt(c, (*client.Client).ListDomains, workshop.FileDomains, func(s contract.DomainStatistics) error {
		fmt.Fprintln(c.out, printable(s.Says))
		w := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
		tell := func(title string, of []contract.DomainShare) {
			if len(of) == 0 {
				return
			}
			fmt.Fprintln(w, "\n"+title)
			for _, d := range of[:min(len(of), 10)] {
				name := d.Name
				if d.Title != "" {
					name += ", " + d.Title
				}
				if d.Meant != "" {
					name += " (meant: " + d.Meant + ")"
				}
				fmt.Fprintf(w, "  %s\t%s\t%s\n", printable(name), say.Addresses(d.Addresses), strings.Join(d.Traits, ", "))
			}
		}
		tell("Largest domains", s.Largest)
		tell("Operators, as earlier runs found them", s.Operators)
		tell("Suspicious domains", s.Suspicious)
		tell("Suffixes", s.Countries)
		return w.Flush()
	})
}

func showColumns(c *cli) action {
	return lookAt(c, func(api *client.Client, ctx context.Context, id int64) ([]contract.ColumnProfile, error) {
		p, err := api.ListColumns(ctx, id)
		return p.Items, err
	}, workshop.FileProfiles, c.tellProfiles)
}

func showKnown(c *cli) action {
	return lookAt(c, (*client.Client).ListKnown, nil, func(k contract.KnownResults) error { return c.sentence(k.Says) })
}

func showRecipes(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.StepRecipe], error) {
		return api.StepRecipes(ctx)
	}, recipeTable.of(c))
}

var recipeTable = table[contract.StepRecipe]{"No steps are saved. Save some: varnet workshop recipes save NAME FILE", "recipe\tname\tsteps", func(w io.Writer, r contract.StepRecipe) {
	fmt.Fprintf(w, "%d\t%s\t%s\n", r.ID, printable(r.Name), printable(strings.Join(r.Says, "; ")))
}}

func saveRecipe(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (r contract.StepRecipe, err error) {
		steps, err := c.stepsIn(c.args[1])
		if err != nil {
			return r, err
		}
		return api.SaveStepRecipe(ctx, contract.NewStepRecipe{Name: c.args[0], Steps: steps})
	}, recipeTable.one(c))
}

var termTable = table[contract.TermList]{"No terms are saved. Save some: varnet workshop terms save NAME FILE", "terms\tname\thow many\tfirst", func(w io.Writer, t contract.TermList) {
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\n", t.ID, printable(t.Name), say.Number(t.Terms), printable(strings.Join(t.First[:min(len(t.First), 3)], ", ")))
}}

func showTerms(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.TermList], error) {
		return api.TermLists(ctx)
	}, termTable.of(c))
}

func saveTerms(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (t contract.TermList, err error) {
		terms, err := c.linesOf(c.args[1])
		if err != nil {
			return t, err
		}
		return api.SaveTermList(ctx, contract.NewTermList{Name: c.args[0], Terms: terms})
	}, termTable.one(c))
}
