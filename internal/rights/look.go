package rights

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"varnet/core/finding"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// mostRows is how many rows of a list are shown; an address that stands in more is not a person's.
const mostRows = 100

// places are what the tables are called that may name an address.
var places = map[string]string{
	"policy": "policies", "list": "names of lists and columns", "run": "settings of runs", "run_notice": "what hosts said while runs went on", "parcel": "conversations with mail hosts",
	"connection_import": "imports from connections", "routine": "routines", "routine_time": "times of routines", "write_back": "write-backs", "write_item": "what was written back",
	"mailing": "names of mailings", "returned": "messages that came back", "mailed": "mailings", "trial_letter": "trial letters", "outcome_mapping": "files of outcomes", "opinion_mapping": "results of other checks",
	"outcome": "outcomes", "workshop_job": "lists made in the workshop", "step_recipe": "saved steps", "term_list": "saved terms", "event": "notices and events", "delivery_attempt": "calls of webhooks",
	"operator_route": "what hosts said to our routes", "sending_outcome": "tests of outbound",
}

// Look returns all that a workspace holds about an address.
func (d *Desk) Look(ctx context.Context, workspace int64, name, typed string) (h contract.Held, err error) {
	sub, err := d.subject(typed)
	if err != nil {
		return h, err
	}
	h = contract.Held{Address: sub.Mailbox(), Workspace: name, At: time.Now().UTC(), Lists: []contract.HeldList{}, Letters: []contract.HeldLetter{}, Elsewhere: []contract.HeldElsewhere{}}
	if key, err := d.key(ctx, d.Store, workspace); err != nil {
		return h, err
	} else if key != nil {
		if h.ErasedAt, err = d.Store.ErasedAt(ctx, workspace, print(key, sub.identity)); err != nil {
			return h, err
		}
	}
	lists, spelled, err := d.holding(ctx, workspace, sub)
	if err != nil {
		return h, err
	}
	for _, x := range lists {
		held, err := d.list(ctx, x)
		if err != nil {
			return h, err
		}
		h.Lists = append(h.Lists, held)
	}
	if err := d.remembered(ctx, workspace, spelled, &h); err != nil {
		return h, err
	}
	mentions, err := d.Store.Mentions(ctx, workspace, sub.eraser, sub.domain)
	if err != nil {
		return h, err
	}
	for _, m := range mentions {
		if m.Table != "mailed" { // told by itself
			h.Elsewhere = append(h.Elsewhere, contract.HeldElsewhere{Place: places[m.Table], Records: m.Records})
		}
	}
	h.Says = says(h)
	return h, nil
}

// list is what a list holds.
func (d *Desk) list(ctx context.Context, x *store.Erasure) (contract.HeldList, error) {
	l := x.List
	held := contract.HeldList{ID: l.ID, Name: l.Name, FileName: l.FileName, At: l.CreatedAt, Rows: []contract.HeldRow{}, RowsAll: len(x.Rows()), Results: []contract.HeldResult{}}
	err := d.Store.RowsAt(ctx, l, x.Rows()[:min(mostRows, len(x.Rows()))], func(row int32, c *store.Row) {
		r := contract.HeldRow{Line: c.Line, Own: x.Own(row), Cells: []contract.HeldCell{}}
		for i, text := range l.Dialect.Kept().Cells(c.Raw) {
			if _, named := x.Without(text); !r.Own && !named {
				continue // it is of somebody else
			}
			name := fmt.Sprintf("Column %d", i+1)
			if i < len(l.Columns) {
				name = l.Columns[i]
			}
			r.Cells = append(r.Cells, contract.HeldCell{Column: name, Text: text})
		}
		held.Rows = append(held.Rows, r)
	})
	if err != nil {
		return held, err
	}
	decided, err := d.Store.Overrides(ctx, store.Run{ListID: l.ID})
	if err != nil {
		return held, err
	}
	of := x.Of()
	for _, o := range decided[0] {
		if slices.Contains(of, o.Address) {
			held.Override = o.Decision
		}
	}
	held.Results, err = d.results(ctx, l, of)
	return held, err
}

// results are what runs found of some addresses of a list.
func (d *Desk) results(ctx context.Context, l store.List, addresses []int32) (found []contract.HeldResult, err error) {
	found = []contract.HeldResult{}
	runs, err := d.Store.AllRuns(ctx, l.ID)
	if err != nil {
		return nil, err
	}
	verdicts, err := d.Store.Verdicts(ctx)
	if err != nil {
		return nil, err
	}
	for _, run := range runs {
		for _, a := range addresses {
			r, err := d.Store.FullResult(ctx, run, a)
			if errors.Is(err, store.ErrNotFound) {
				continue
			}
			if err != nil {
				return nil, err
			}
			v := verdicts[r.Verdict]
			info, _ := finding.Lookup(v.Cause)
			one := contract.HeldResult{RunID: run.ID, At: r.At, Finding: v.Finding, Title: info.Title, Meaning: info.Meaning, Said: []contract.HeldReply{}}
			for _, q := range r.Asked {
				text := q.Reply
				if text == "" {
					text = q.Why
				}
				one.Said = append(one.Said, contract.HeldReply{At: q.At, Reply: text})
			}
			found = append(found, one)
		}
	}
	return found, nil
}

// remembered adds what is remembered of the spellings of an address apart from lists.
func (d *Desk) remembered(ctx context.Context, workspace int64, spelled []string, h *contract.Held) error {
	mailed, err := d.Store.MailedTo(ctx, workspace, spelled, nil, nil)
	if err != nil {
		return err
	}
	for _, m := range mailed {
		of, err := d.Store.Mailing(ctx, workspace, m.MailingID)
		if err != nil {
			return err
		}
		h.Letters = append(h.Letters, contract.HeldLetter{Mailing: of.Name, SentAt: of.SentAt, Outcome: string(m.Outcome), Words: m.Words, At: m.At})
	}
	outcomes, err := d.Store.KnownOutcomes(ctx, workspace, spelled)
	if err != nil {
		return err
	}
	absent, err := d.Store.Absences(ctx, workspace, spelled)
	if err != nil {
		return err
	}
	seen, err := d.Store.SeenOf(ctx, workspace, spelled)
	if err != nil {
		return err
	}
	for _, s := range spelled {
		if o, ok := outcomes[s]; ok {
			h.Outcome = &contract.HeldOutcome{Outcome: string(o.Outcome), Times: o.Times, At: o.At, Words: o.Words}
		}
		if at, ok := absent[s]; ok {
			h.Absent = &at
		}
		if a, ok := seen[s]; ok {
			h.Activity = &contract.HeldActivity{At: a.At, Kind: a.Kind, Source: a.From}
		}
	}
	return nil
}

// says is the whole in a sentence or two.
func says(h contract.Held) string {
	rows, results, elsewhere := 0, 0, int64(0)
	for _, l := range h.Lists {
		rows += l.RowsAll
		results += len(l.Results)
	}
	for _, e := range h.Elsewhere {
		elsewhere += e.Records
	}
	var parts []string
	add := func(n int64, one, many string) {
		if n > 0 {
			parts = append(parts, say.Plural(n, one, many))
		}
	}
	add(int64(rows), "row of "+say.Plural(int64(len(h.Lists)), "list", "lists"), "rows of "+say.Plural(int64(len(h.Lists)), "list", "lists"))
	add(int64(results), "result", "results")
	add(int64(len(h.Letters)), "mailing", "mailings")
	if h.Outcome != nil || h.Absent != nil || h.Activity != nil {
		parts = append(parts, "what is remembered of it apart from lists")
	}
	add(elsewhere, "other record", "other records")
	text := "Nothing is held about this address."
	if len(parts) > 0 {
		text = fmt.Sprintf("Held about this address: %s.", say.And(parts...))
	}
	if h.ErasedAt != nil {
		text += fmt.Sprintf(" It was erased on %s and is neither kept nor asked about when it comes again.", h.ErasedAt.Format("2 January 2006"))
	}
	return text
}
