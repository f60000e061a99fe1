package export

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"varnet/core/activity"
	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/finding"
	"varnet/core/sheet"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// resultColumn is a column of results. A duplicate shows what was found out
// about its address.
type resultColumn struct {
	name, title string
	kind        sheet.Kind
	value       func(e *Export, r *store.OutRow, slot int) string
}

// ofVerdict makes a column of what the verdict alone tells.
func ofVerdict(value func(v finding.Verdict) string) func(*Export, *store.OutRow, int) string {
	return func(e *Export, r *store.OutRow, slot int) string {
		id := r.Cells[slot].Verdict
		if id == 0 {
			return ""
		}
		return value(e.decider.Verdicts[id])
	}
}

var (
	text    = sheet.Kind{Type: sheet.Text}
	numbers = sheet.Kind{Type: sheet.Number}
	moments = sheet.Kind{Type: sheet.Date, Layout: time.RFC3339}
)

var resultColumns = []resultColumn{
	{"finding", "Finding", text, ofVerdict(func(v finding.Verdict) string { return string(v.Finding) })},
	{"cause", "Cause", text, ofVerdict(func(v finding.Verdict) string { return string(v.Cause) })},
	{"title", "Summary", text, ofVerdict(func(v finding.Verdict) string { return info(v).Title })},
	{"meaning", "What it means", text, ofVerdict(func(v finding.Verdict) string { return info(v).Meaning })},
	{"advice", "What to do", text, ofVerdict(func(v finding.Verdict) string { return info(v).Advice })},
	{"traits", "Traits", text, ofVerdict(func(v finding.Verdict) string {
		return strings.Trim(strings.ReplaceAll(fmt.Sprint([]finding.Trait(v.Traits)), " ", "; "), "[]")
	})},
	{"odds", "Odds", numbers, ofVerdict(func(v finding.Verdict) string { return fmt.Sprintf("%.2f", v.Odds) })},
	{"decision", "Decision", text, func(e *Export, r *store.OutRow, slot int) string {
		return string(e.decider.Ruling(e.decider.Cell(r, &r.Cells[slot])).Decision)
	}},
	{"reason", "Reason", text, func(e *Export, r *store.OutRow, slot int) string {
		return e.decider.Ruling(e.decider.Cell(r, &r.Cells[slot])).Reason
	}},
	{"suggestion", "Did you mean", text, func(e *Export, r *store.OutRow, slot int) string {
		a, err := address.Parse(e.cell(r, slot))
		if err != nil {
			return ""
		}
		return Suggestion(a.Mailbox(), e.known.Suggest(a.Domain))
	}},
	{"reply", "Reply", text, func(_ *Export, r *store.OutRow, slot int) string { return r.Cells[slot].Reply.Text }},
	{"host", "Host", text, func(e *Export, r *store.OutRow, slot int) string {
		from := r.Cells[slot].Reply
		if hosts := e.hosts[from.Parcel]; from.Conversation < len(hosts) {
			return hosts[from.Conversation]
		}
		return ""
	}},
	{"checked", "Checked at", moments, func(_ *Export, r *store.OutRow, slot int) string {
		at := r.Cells[slot].At
		if at.IsZero() {
			return ""
		}
		return at.UTC().Format(time.RFC3339)
	}},
	{"lastActive", "Last active", moments, ofActivity(func(s activity.Seen, _ time.Time) string { return s.At.UTC().Format(time.RFC3339) })},
	{"activeDays", "Days since active", numbers, ofActivity(func(s activity.Seen, now time.Time) string { return strconv.Itoa(s.Days(now)) })},
	{"activeStep", "Active", text, func(e *Export, r *store.OutRow, slot int) string {
		if r.Cells[slot].Address == 0 {
			return ""
		}
		return e.activity.Of(r.Cells[slot].Address).Step(e.now).Says()
	}},
	{"activeFrom", "Activity", text, ofActivity(func(s activity.Seen, _ time.Time) string { return s.Kind + " (" + s.From + ")" })},
}

// activityColumns are those for which it is read when something was seen of addresses.
var activityColumns = []string{"lastActive", "activeDays", "activeStep", "activeFrom"}

// ofActivity makes a column of what was seen of the address last, empty where nothing was.
func ofActivity(value func(s activity.Seen, now time.Time) string) func(*Export, *store.OutRow, int) string {
	return func(e *Export, r *store.OutRow, slot int) string {
		seen := e.activity.Of(r.Cells[slot].Address)
		if seen.At.IsZero() {
			return ""
		}
		return value(seen, e.now)
	}
}

func info(v finding.Verdict) finding.CauseInfo {
	i, _ := finding.Lookup(v.Cause)
	return i
}

// usualColumns are the result columns that are given unless others are chosen.
var usualColumns = []string{"finding", "cause", "decision"}

// chooseColumns returns the result columns with these names.
func chooseColumns(names []string) (out []resultColumn, err error) {
	if len(names) == 0 {
		names = usualColumns
	}
	for _, n := range names {
		i := slices.IndexFunc(resultColumns, func(c resultColumn) bool { return c.name == n })
		if i < 0 {
			var known []string
			for _, c := range resultColumns {
				known = append(known, c.name)
			}
			return nil, fmt.Errorf("there is no result column %q; there is: %s", n, strings.Join(known, ", "))
		}
		out = append(out, resultColumns[i])
	}
	return out, nil
}

// Frequent is where the domains are read that are frequent in a list.
type Frequent interface {
	FrequentDomains(ctx context.Context, list int64, addresses int) ([]string, error)
}

// Suggester returns the catalogue that suggests what may have been meant in a list: domains
// that everybody knows, and those that are frequent in it.
func Suggester(ctx context.Context, s Frequent, list int64) (*catalogue.Catalogue, error) {
	frequent, err := s.FrequentDomains(ctx, list, catalogue.Frequent)
	return catalogue.Default().Beside(frequent), err
}

// Suggestion is the mailbox at the domain that may have been meant; "" for none.
func Suggestion(mailbox, domain string) string {
	if domain == "" {
		return ""
	}
	return mailbox[:strings.LastIndexByte(mailbox, '@')+1] + domain
}

// Columns lists the result columns.
func Columns() (out []contract.ResultColumn) {
	for _, c := range resultColumns {
		out = append(out, contract.ResultColumn{Name: c.name, Title: c.title, Usual: slices.Contains(usualColumns, c.name)})
	}
	return out
}
