package main

import (
	"context"
	"fmt"
	"io"
	"text/tabwriter"

	"varnet/core/finding"
	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func opinionsCommand() command {
	return command{"opinions", "LIST", "shows what other checks found of a list, in columns of it, beside what its last run did", "varnet opinions 12", showOpinions, []command{
		{"map", "NAME", "says what the words of another check mean", "varnet opinions map Seedcheck -means good=deliverable -means gone=undeliverable -means trap=", mapOpinion, nil},
		{"rows", "LIST", "shows rows by what another check and the last run found", "varnet opinions rows 12 -check Seedcheck -apart contradict", opinionRows, nil},
	}}
}

func showOpinions(c *cli) action {
	return ask(c, of(c, "list", (*client.Client).Opinions), func(o contract.Opinions) error {
		fmt.Fprintln(c.out, o.Says)
		for _, check := range o.Checks {
			c.printCheck(check)
		}
		if len(o.Checks) > 0 {
			fmt.Fprintln(c.out, "\n"+o.Ours.Says)
		}
		return nil
	})
}

func (c *cli) printCheck(check contract.OpinionCheck) {
	found := append(finding.Findings(), "")
	fmt.Fprintf(c.out, "\n%s, in the column %q\n", printable(check.Name), printable(check.Column))
	t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprint(t, "it found \\ Varnet found\t")
	for _, ours := range found {
		fmt.Fprintf(t, "%s\t", nothing(ours))
	}
	fmt.Fprintln(t)
	for _, theirs := range found {
		fmt.Fprintf(t, "%s\t", nothing(theirs))
		for _, ours := range found {
			n := int64(0)
			for _, cell := range check.Matrix {
				if cell.Theirs == theirs && cell.Ours == ours {
					n = cell.Rows
				}
			}
			fmt.Fprintf(t, "%s\t", say.Number(n))
		}
		fmt.Fprintln(t)
	}
	_ = t.Flush()
	w := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
	fmt.Fprintln(w, "\nits word\trows\tmeans")
	for _, word := range check.Words {
		means := nothing(finding.Finding(word.Means))
		if !word.Known {
			means = "not mapped yet; looks like " + means
		}
		fmt.Fprintf(w, "%s\t%s\t%s\n", printable(word.Word), say.Number(word.Rows), means)
	}
	_ = w.Flush()
	fmt.Fprintln(c.out, "\n"+check.Judged.Says)
}

// nothing is a finding in words, or that there is none.
func nothing(f finding.Finding) string {
	if f == "" {
		return "nothing"
	}
	return string(f)
}

func mapOpinion(c *cli) action {
	means := pairs{}
	c.flags.Var(means, "means", "what a word means, as `WORD=FINDING`: deliverable, catch-all, undecided, undeliverable, or nothing behind the sign; give it once for each, in place of all that was said before")
	return ask(c, func(ctx context.Context, api *client.Client) (struct{}, error) {
		if len(means) == 0 {
			return struct{}{}, c.wrongUse("give the meaning of words: -means WORD=FINDING")
		}
		return struct{}{}, api.SetOpinionMeaning(ctx, c.args[0], means)
	}, func(struct{}) error {
		return c.sentence(fmt.Sprintf("%s of %s have a meaning.", say.Plural(int64(len(means)), "word", "words"), printable(c.args[0])))
	})
}

var opinionTable = table[contract.OpinionRow]{"There is no such row.", "address\tits word\tit found\tVarnet found\twhy\todds", func(w io.Writer, r contract.OpinionRow) {
	fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\n", printable(r.Typed), printable(r.Word), nothing(r.Theirs), nothing(r.Ours), r.Title, in100(r.Odds))
}}

func opinionRows(c *cli) action {
	page := c.paged()
	q := contract.OpinionQuery{}
	c.flags.StringVar(&q.Check, "check", "", "the name of the other check")
	c.flags.StringVar(&q.Theirs, "theirs", "", "what it found: deliverable, catch-all, undecided, undeliverable or none")
	c.flags.StringVar(&q.Ours, "ours", "", "what Varnet found")
	c.flags.StringVar(&q.Apart, "apart", "", "differ: both found something, and not the same; contradict: one says deliverable, the other undeliverable")
	return ask(c, of(c, "list", func(api *client.Client, ctx context.Context, id int64) (contract.Page[contract.OpinionRow], error) {
		q.PageQuery = page()
		return api.OpinionRows(ctx, id, q)
	}), opinionTable.of(c))
}
