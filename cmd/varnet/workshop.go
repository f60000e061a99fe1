package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"varnet/core/say"
	"varnet/core/workshop"
	"varnet/internal/client"
	"varnet/internal/contract"
)

// What a LIST is in the workshop: the number of a list of the service, or a file, which needs no
// service.
const workshopOf = " (LIST: the number of a list, or a file, for which no service is needed)"

func workshopCommand() command {
	return command{"workshop", "", "makes lists from lists, or files from files without any service", "varnet workshop without members.csv unsubscribed.csv -out rest.csv", nil, []command{
		{"merge", "LIST LIST…", "puts lists together, one row for each address" + workshopOf, "varnet workshop merge members.csv guests.csv -keep filled -out all.csv", steps(merging), nil},
		{"without", "LIST LIST…", "leaves out the rows that are in another list" + workshopOf, "varnet workshop without members.csv unsubscribed.csv -out rest.csv", steps(comparing(workshop.DoWithout)), nil},
		{"both", "LIST LIST…", "keeps the rows that are in the others, too" + workshopOf, "varnet workshop both members.csv guests.csv -out both.csv", steps(comparing(workshop.DoBoth)), nil},
		{"only", "LIST LIST…", "keeps the rows of all lists that are in one alone" + workshopOf, "varnet workshop only members.csv guests.csv -out alone.csv", steps(comparing(workshop.DoOnly)), nil},
		{"duplicates", "LIST", "keeps the rows that come again" + workshopOf, "varnet workshop duplicates members.csv -out twice.csv", steps(comparing(workshop.DoDuplicates)), nil},
		{"one", "LIST", "keeps the first row for each domain, household or other key" + workshopOf, "varnet workshop one members.csv -by domain -out first.csv", steps(comparing(workshop.DoOne)), nil},
		{"slice", "LIST", "keeps the rows that meet conditions or stand at some places" + workshopOf, "varnet workshop slice members.csv -where Town:is:Mossford|Upwick -last 100 -out some.csv", steps(slicing), nil},
		{"split", "LIST", "makes one list for each value of a column, or for every N rows" + workshopOf, "varnet workshop split members.csv -column Town -out towns", splitting, nil},
		{"strike", "LIST", "leaves out the rows that hold one of many terms" + workshopOf, "varnet workshop strike members.csv -terms competitors.txt -how domain -out rest.csv", steps(striking), nil},
		{"tidy", "LIST", "changes cells and columns" + workshopOf, "varnet workshop tidy members.csv -change trim:Town -change rename:Town:Place -out tidy.csv", steps(tidying), nil},
		{"follow", "RECIPE LIST", "does the steps of a recipe: a JSON file, or the name of a saved one" + workshopOf, "varnet workshop follow monthly.json members.csv -out tidy.csv", following, nil},
		{"domains", "LIST", "shows what the domains of a list tell before it is verified", "varnet workshop domains 12", showDomains, nil},
		{"columns", "LIST", "shows what the columns of a list are like", "varnet workshop columns 12", showColumns, nil},
		{"known", "LIST", "shows what earlier runs found of the addresses of a list", "varnet workshop known 12", showKnown, nil},
		{"recipes", "", "shows the saved recipes of steps", "varnet workshop recipes", showRecipes, []command{
			{"save", "NAME FILE", "saves the steps of a JSON file under a name", "varnet workshop recipes save monthly monthly.json", saveRecipe, nil},
			{"delete", "RECIPE", "deletes saved steps", "varnet workshop recipes delete 3", func(c *cli) action { return doOf(c, "recipe", (*client.Client).DeleteStepRecipe) }, nil},
		}},
		{"terms", "", "shows the saved terms", "varnet workshop terms", showTerms, []command{
			{"save", "NAME FILE", "saves the terms of a text file, one a line, under a name", "varnet workshop terms save competitors competitors.txt", saveTerms, nil},
			{"delete", "TERMS", "deletes saved terms", "varnet workshop terms delete 2", func(c *cli) action { return doOf(c, "saved term list", (*client.Client).DeleteTermList) }, nil},
		}},
	}}
}

// several is a flag that may be given several times.
type several []string

func (s *several) String() string     { return strings.Join(*s, ", ") }
func (s *several) Set(v string) error { *s = append(*s, v); return nil }

// several adds one.
func (c *cli) several(name, usage string) *several {
	s := &several{}
	c.flags.Var(s, name, usage+"; may be given several times")
	return s
}

// stepMaker adds the flags of a step and returns what makes it of them; with are the other lists.
type stepMaker func(c *cli) func(with []string) (contract.WorkshopStep, error)

// steps makes a command of one step.
func steps(define stepMaker) func(c *cli) action {
	return func(c *cli) action {
		step, m := define(c), c.making()
		return func(ctx context.Context) error {
			s, err := step(c.args[1:])
			if err != nil {
				return err
			}
			return m.do(ctx, c.args[0], []contract.WorkshopStep{s}, nil)
		}
	}
}

// comparedBy adds the flags by which rows are compared.
func (c *cli) comparedBy(s *contract.WorkshopStep) {
	c.flags.StringVar((*string)(&s.By), "by", "address", "by what rows are the same: address, mailbox, domain, exact, loose (without case and spaces) or digits")
	c.flags.Var((*several)(&s.Columns), "column", "a column that is looked at, in every list; those with addresses unless given; may be given several times")
	c.flags.BoolVar(&s.Together, "together", false, "make one key of all these columns, as of a household")
}

func comparing(do workshop.Do) stepMaker {
	return func(c *cli) func([]string) (contract.WorkshopStep, error) {
		s := contract.WorkshopStep{Do: do}
		c.comparedBy(&s)
		return func(with []string) (contract.WorkshopStep, error) { s.With = with; return s, nil }
	}
}

func merging(c *cli) func([]string) (contract.WorkshopStep, error) {
	s := contract.WorkshopStep{Do: workshop.DoMerge}
	c.comparedBy(&s)
	c.flags.StringVar((*string)(&s.Keep), "keep", "first", "whose cells stand: those of the first row, the newest, or the first with its empty cells filled (filled)")
	c.flags.StringVar(&s.Newest, "newest", "", "the column with the date that tells the newest row")
	aliases := c.several("alias", "a column of the other lists that the first calls otherwise, as OTHER=FIRST")
	return func(with []string) (contract.WorkshopStep, error) {
		for _, a := range *aliases {
			column, as, ok := strings.Cut(a, "=")
			if !ok {
				return s, c.wrongUse(fmt.Sprintf("-alias %q is not OTHER=FIRST", a))
			}
			s.Aliases = append(s.Aliases, contract.WorkshopAlias{Column: column, As: as})
		}
		s.With = with
		return s, nil
	}
}

func slicing(c *cli) func([]string) (contract.WorkshopStep, error) {
	s := contract.WorkshopStep{Do: workshop.DoSlice}
	where := c.several("where", "a condition, as COLUMN:TEST:VALUE|VALUE, or @FACT:TEST:VALUE about the address; the tests are is, contains, begins, empty, pattern, between, dates, last and month, with ! before one for not")
	c.flags.BoolVar(&s.Any, "any", false, "one of the conditions is enough")
	first := c.flags.Int64("first", 0, "the first N rows")
	c.flags.Int64Var(&s.Last, "last", 0, "the last N rows")
	c.flags.Int64Var(&s.From, "from", 0, "from this row on, counted from 1")
	c.flags.Int64Var(&s.To, "to", 0, "to this row")
	c.flags.Int64Var(&s.Every, "every", 0, "every nth row")
	c.flags.Int64Var(&s.Sample, "sample", 0, "N rows at random")
	c.flags.Uint64Var(&s.Seed, "seed", 1, "the same seed draws the same sample")
	return func([]string) (contract.WorkshopStep, error) {
		if *first > 0 {
			s.To = *first
		}
		for _, w := range *where {
			one, err := condition(w)
			if err != nil {
				return s, c.wrongUse(err.Error())
			}
			s.Conditions = append(s.Conditions, one)
		}
		return s, nil
	}
}

// condition reads a condition of the command line.
func condition(text string) (out contract.WorkshopCondition, err error) {
	parts := strings.SplitN(text, ":", 3)
	if len(parts) < 2 {
		return out, fmt.Errorf("-where %q is not COLUMN:TEST:VALUE", text)
	}
	if fact, ok := strings.CutPrefix(parts[0], "@"); ok {
		out.Fact = workshop.Fact(fact)
	} else {
		out.Column = parts[0]
	}
	test, not := strings.CutPrefix(parts[1], "!")
	out.Test, out.Not = workshop.Test(test), not
	if len(parts) > 2 {
		if out.Values = strings.Split(parts[2], "|"); out.Test == workshop.Pattern {
			out.Values = parts[2:]
		}
	}
	return out, nil
}

func striking(c *cli) func([]string) (contract.WorkshopStep, error) {
	s := contract.WorkshopStep{Do: workshop.DoStrike}
	file := c.flags.String("terms", "", "a text file with one term a line; - is standard input")
	c.flags.Var((*several)(&s.Terms), "term", "a term; may be given several times")
	c.flags.Var((*several)(&s.TermLists), "saved", "the name of saved terms; may be given several times")
	c.flags.StringVar((*string)(&s.How), "how", "cell", "how a term must stand in a cell: cell, word, part, domain or number")
	c.flags.Var((*several)(&s.Columns), "column", "a column that is looked at, all unless given; may be given several times")
	c.flags.BoolVar(&s.Found, "found", false, "keep the rows that hold a term, instead of the others")
	return func([]string) (contract.WorkshopStep, error) {
		if *file == "" {
			return s, nil
		}
		terms, err := c.linesOf(*file)
		s.Terms = append(s.Terms, terms...)
		return s, err
	}
}

// linesOf reads the lines of a file that are not empty.
func (c *cli) linesOf(file string) (out []string, err error) {
	in, err := c.open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		if line := strings.TrimSpace(strings.TrimPrefix(lines.Text(), "\ufeff")); line != "" {
			out = append(out, line)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%s, line %d: %w", file, len(out)+1, err)
	}
	return out, nil
}

func tidying(c *cli) func([]string) (contract.WorkshopStep, error) {
	s := contract.WorkshopStep{Do: workshop.DoTidy}
	changes := c.several("change", "a change, as trim:COLUMN|COLUMN (upper, lower and salutation alike), replace:COLUMN:TEXT:BY, local-part::NEW, domain::NEW, first-name:COLUMN:NEW, last-name:COLUMN:NEW, country:COLUMN:NEW, split:COLUMN:TEXT:NEW:NEW, join:COLUMN|COLUMN:TEXT:NEW, rename:COLUMN:NEW, order:COLUMN|COLUMN or drop:COLUMN")
	return func([]string) (contract.WorkshopStep, error) {
		for _, text := range *changes {
			s.Changes = append(s.Changes, change(text))
		}
		return s, nil
	}
}

// change reads a change of the command line.
func change(text string) (out contract.WorkshopChange) {
	parts := append(strings.Split(text, ":"), "", "", "", "")
	out.Do = workshop.Tidying(parts[0])
	if parts[1] != "" {
		out.Columns = strings.Split(parts[1], "|")
	}
	switch out.Do {
	case workshop.Replace:
		out.Find, out.With = parts[2], parts[3]
	case workshop.SplitColumn:
		out.Find, out.To, out.Rest = parts[2], parts[3], parts[4]
	case workshop.JoinColumns:
		out.With, out.To = parts[2], parts[3]
	default:
		out.To = parts[2]
	}
	return out
}

func splitting(c *cli) action {
	split := contract.WorkshopSplit{}
	c.flags.StringVar(&split.Column, "column", "", "one for each value of this column")
	c.flags.StringVar((*string)(&split.Fact), "fact", "", "one for each value of this fact about the address, such as domain or finding")
	c.flags.Int64Var(&split.Each, "rows", 0, "one for every N rows")
	m := c.making()
	return func(ctx context.Context) error { return m.do(ctx, c.args[0], nil, &split) }
}

// following does the steps of a recipe.
func following(c *cli) action {
	m := c.making()
	return func(ctx context.Context) error {
		steps, err := c.recipe(ctx, m.connect, c.args[0])
		if err != nil {
			return err
		}
		return m.do(ctx, c.args[1], steps, nil)
	}
}

// recipe reads the steps of a file, or those that are saved under a name.
func (c *cli) recipe(ctx context.Context, connect func() *client.Client, name string) ([]contract.WorkshopStep, error) {
	if _, err := os.Stat(name); err == nil {
		return c.stepsIn(name)
	}
	saved, err := connect().StepRecipes(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range saved.Items {
		if strings.EqualFold(r.Name, name) {
			return r.Steps, nil
		}
	}
	return nil, fmt.Errorf("there is no file %s, and no recipe of this name is saved; varnet workshop recipes shows them", name)
}

// stepsIn reads steps from a JSON file.
func (c *cli) stepsIn(file string) (steps []contract.WorkshopStep, err error) {
	text, err := c.read(file)
	if err != nil {
		return nil, err
	}
	in := json.NewDecoder(strings.NewReader(text))
	in.DisallowUnknownFields()
	if err := in.Decode(&steps); err != nil {
		return nil, fmt.Errorf("%s holds no steps as JSON, such as [{\"do\": \"without\", \"with\": [\"7\"]}]: %w", file, err)
	}
	return steps, nil
}

// listNumber is the number of a list of the service; ok is false for a file.
func listNumber(arg string) (id int64, ok bool) {
	id, err := strconv.ParseInt(arg, 10, 64)
	return id, err == nil && id > 0
}

// maker makes lists and files, where the service is wanted by its lists.
type maker struct {
	connect func() *client.Client
	do      func(ctx context.Context, first string, steps []contract.WorkshopStep, split *contract.WorkshopSplit) error
}

// making adds the flags of what is made, and returns what makes it.
func (c *cli) making() maker {
	connect, asJSON := c.connect(), c.asJSON()
	name := c.flags.String("name", "", "the name of the new list")
	out := c.flags.String("out", "", "write a file instead of making a list; of a split, the folder for its files; - is standard output")
	countries := c.countryFile()
	dry := c.flags.Bool("dry-run", false, "describe what would be made, and make nothing")
	return maker{connect, func(ctx context.Context, first string, steps []contract.WorkshopStep, split *contract.WorkshopSplit) error {
		id, ofService := listNumber(first)
		for _, s := range steps {
			for _, w := range s.With {
				if _, number := listNumber(w); number != ofService {
					return c.wrongUse(fmt.Sprintf("%s and %s are a list and a file; import the file first, or export the list", first, w))
				}
			}
		}
		if !ofService {
			return c.makeOfFiles(ctx, fileOrder{first, steps, split, *out, *countries, *dry, *asJSON})
		}
		order := contract.WorkshopOrder{ListID: id, Steps: steps, Split: split, Name: *name}
		if order.Steps == nil {
			order.Steps = []contract.WorkshopStep{}
		}
		if *out != "" && !*dry {
			return c.makeFile(ctx, connect(), order, *out)
		}
		return c.makeLists(ctx, connect(), contract.NewWorkshopJob{WorkshopOrder: order, DryRun: *dry}, *asJSON)
	}}
}

// makeLists has the service make lists.
func (c *cli) makeLists(ctx context.Context, api *client.Client, n contract.NewWorkshopJob, asJSON bool) error {
	j, err := api.Made(ctx, n, func(j contract.WorkshopJob) {
		fmt.Fprintf(c.err, "%s rows read of %s\n", say.Number(j.Read), say.Number(j.Of))
	})
	switch {
	case err != nil:
		return err
	case j.State == "failed":
		return errors.New(j.Says)
	case asJSON:
		return c.printJSON(j)
	}
	c.tellMade(j)
	for i, id := range j.ListIDs {
		what := ""
		if i < len(j.Parts) {
			what = fmt.Sprintf(": %s, %s", printable(orNothing(j.Parts[i].Value)), say.Rows(j.Parts[i].Rows))
		}
		fmt.Fprintf(c.out, "List %d%s\n", id, what)
	}
	return nil
}

func orNothing(value string) string {
	if value == "" {
		return "without a value"
	}
	return value
}

// makeFile has the service write a file.
func (c *cli) makeFile(ctx context.Context, api *client.Client, o contract.WorkshopOrder, out string) error {
	to, err := c.output(out)
	if err != nil {
		return err
	}
	return to.write(func(w io.Writer) error {
		buffered := bufio.NewWriter(w)
		if err := api.WorkshopFile(ctx, o, formatOf(out), buffered); err != nil {
			return err
		}
		return buffered.Flush()
	})
}
