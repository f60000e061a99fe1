// Package decidetest is a source of rows and results in memory, for tests of what decides
// on them and of what is made of them.
package decidetest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"varnet/core/activity"
	"varnet/core/finding"
	"varnet/core/opinion"
	"varnet/core/sheet"
	"varnet/internal/store"
)

// Row is a row of a list of one address column: its cells, and what was found.
type Row struct {
	Cells   []string
	Domain  string
	Verdict int32         // 0: nothing yet
	Age     time.Duration // of the result
	// Of is the row whose address this repeats, from 1; 0: none. Blank rows have no
	// address.
	Of    int32
	Blank bool
}

// Source holds them.
type Source struct {
	// Seen is what was seen of addresses, Means what the words of other checks mean.
	Seen  map[int32]activity.Seen
	Means map[string]opinion.Means
	// Terms are the saved terms.
	Terms []store.SavedTerms
	List  store.List
	Run   store.Run
	Rows  []Row
	Of    map[int32]finding.Verdict
	Hand  []store.Override
	// Read counts the rows that were looked at.
	Read int
}

// New returns a source of a list with these columns, of which the first holds addresses.
func New(columns []string, verdicts []finding.Verdict, rows ...Row) *Source {
	s := &Source{Rows: rows, Of: map[int32]finding.Verdict{}}
	for i, v := range verdicts {
		s.Of[int32(i+1)] = v
	}
	s.List = store.List{ID: 1, Name: "members", FileName: "members.csv", Format: "text", Columns: columns, AddressColumns: []int{0},
		Dialect: sheet.Dialect{Delimiter: ",", Quote: `"`, Encoding: sheet.UTF8, Header: true}, Header: []byte(strings.Join(columns, ",") + "\n")}
	for range columns {
		s.List.Kinds = append(s.List.Kinds, sheet.Kind{Type: sheet.Text})
	}
	for _, r := range rows {
		s.List.Rows++
		switch {
		case r.Blank:
			s.List.Blank++
		case r.Of != 0:
			s.List.Duplicates++
		default:
			s.List.Addresses++
		}
	}
	s.Run = store.Run{ID: 7, ListID: 1, CreatedAt: time.Now().Add(-time.Minute)}
	return s
}

// Activity is what the source has seen.
func (s *Source) Activity(context.Context, store.List) (*store.Activity, error) {
	return store.ActivityOf(s.Seen), nil
}

// OpinionMeans are what the words of other checks mean.
func (s *Source) OpinionMeans(context.Context, int64) (map[string]opinion.Means, error) {
	return s.Means, nil
}

// TermsNamed returns the saved terms of the source.
func (s *Source) TermsNamed(context.Context, int64, []string) ([]store.SavedTerms, error) {
	return s.Terms, nil
}

// Verdicts are the verdicts by number.
func (s *Source) Verdicts(context.Context) (map[int32]finding.Verdict, error) { return s.Of, nil }

// Overrides are the overrides.
func (s *Source) Overrides(_ context.Context, runs ...store.Run) (map[int64][]store.Override, error) {
	found := map[int64][]store.Override{}
	for _, r := range runs {
		found[r.ID] = s.Hand
	}
	return found, nil
}

func (s *Source) row(i int) *store.OutRow {
	r := s.Rows[i]
	c := store.OutCell{Ordinal: int32(i + 1), Address: int32(i + 1), Verdict: r.Verdict, Domain: r.Domain, Operator: r.Domain}
	switch {
	case r.Blank:
		c.Address = 0
	case r.Of != 0:
		c.Address = r.Of
		c.Verdict = s.Rows[r.Of-1].Verdict
	}
	if c.Verdict != 0 {
		c.At = time.Now().Add(-r.Age)
	}
	return &store.OutRow{Number: int32(i + 1), Raw: []byte(strings.Join(r.Cells, ",") + "\n"), Cells: []store.OutCell{c}}
}

// EachRow reads all rows, or until do has enough.
func (s *Source) EachRow(_ context.Context, _ store.Run, _ store.List, _ store.OutWith, do func(*store.OutRow) error) error {
	for i := range s.Rows {
		s.Read++
		if err := do(s.row(i)); errors.Is(err, store.ErrEnough) {
			return nil
		} else if err != nil {
			return err
		}
	}
	return nil
}

// RowsOf reads some.
func (s *Source) RowsOf(_ context.Context, _ store.Run, _ store.List, addresses []int32) (map[int32]*store.OutRow, error) {
	out := map[int32]*store.OutRow{}
	for _, a := range addresses {
		out[a] = s.row(int(a - 1))
	}
	return out, nil
}

func (s *Source) fits(f store.ResultFilter, i int) bool {
	r := s.Rows[i]
	return r.Verdict != 0 && r.Of == 0 && int32(i+1) > f.After && (f.Domain == "" || f.Domain == r.Domain) &&
		strings.Contains(r.Cells[0], f.Search) && (f.Verdicts == nil || slices.Contains(f.Verdicts, r.Verdict))
}

// Results are those that fit.
func (s *Source) Results(_ context.Context, _ store.Run, f store.ResultFilter) (out []store.Result, err error) {
	for i, r := range s.Rows {
		if s.fits(f, i) && len(out) < f.Limit {
			out = append(out, store.Result{Address: int32(i + 1), Typed: r.Cells[0], Verdict: r.Verdict})
		}
	}
	return out, nil
}

// ResultsAmong are those of some addresses that fit.
func (s *Source) ResultsAmong(ctx context.Context, run store.Run, f store.ResultFilter, addresses []int32) ([]store.Result, error) {
	f.Limit = len(s.Rows)
	all, err := s.Results(ctx, run, f)
	return slices.DeleteFunc(all, func(r store.Result) bool { return !slices.Contains(addresses, r.Address) }), err
}

// ResultCounts are the counts of those that fit, by verdict.
func (s *Source) ResultCounts(_ context.Context, _ store.Run, f store.ResultFilter) (map[int32]int64, error) {
	out := map[int32]int64{}
	for i, r := range s.Rows {
		if s.fits(f, i) {
			out[r.Verdict]++
		}
	}
	return out, nil
}

// Progress counts the results.
func (s *Source) Progress(ctx context.Context, runs ...int64) (map[int64]store.Progress, error) {
	counts, err := s.ResultCounts(ctx, s.Run, store.ResultFilter{})
	found := map[int64]store.Progress{}
	for _, run := range runs {
		found[run] = store.Progress{Verdicts: counts}
	}
	return found, err
}

// Exchangers are none.
func (s *Source) Exchangers(context.Context, int64) (map[int64][]string, error) { return nil, nil }

// FrequentDomains are none.
func (s *Source) FrequentDomains(context.Context, int64, int) ([]string, error) { return nil, nil }

// Members is a source of so many rows of the seed library's members, of all kinds: with
// verdicts, duplicates, blanks and some that are not concluded.
func Members(n int) *Source {
	verdicts := []finding.Verdict{
		finding.Conclude(finding.Deliverable, finding.MailboxAccepted, nil),
		finding.Conclude(finding.CatchAll, finding.MailboxAnyAccepted, nil),
		finding.Conclude(finding.Undeliverable, finding.MailboxAbsent, nil),
		finding.Conclude(finding.Deliverable, finding.MailboxAccepted, finding.Traits{finding.TraitRole}),
	}
	var rows []Row
	for i := range n {
		r := Row{Domain: fmt.Sprintf("d%d.example", i%5), Verdict: int32(i%5) % 5, Age: time.Duration(i%7) * 24 * time.Hour}
		r.Cells = []string{fmt.Sprintf("member%d@%s", i, r.Domain), fmt.Sprint("town ", i%3), "=1+1"}
		switch {
		case i%11 == 10:
			r.Blank, r.Verdict, r.Cells[0] = true, 0, ""
		case i%13 == 12:
			r.Of, r.Verdict, r.Cells[0] = int32(i), 0, rows[i-1].Cells[0]
			if rows[i-1].Blank || rows[i-1].Of != 0 {
				r.Of, r.Cells[0] = 1, rows[0].Cells[0]
			}
		}
		rows = append(rows, r)
	}
	return New([]string{"e-mail", "town", "note"}, verdicts, rows...)
}
