package decide_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"varnet/core/activity"
	"varnet/core/finding"
	"varnet/core/opinion"
	"varnet/core/policy"
	"varnet/core/sheet"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/decide/decidetest"
	"varnet/internal/store"
)

// policies are some that rule by verdict, and some that look at each row.
func policies() []policy.Policy {
	aged := policy.Careful()
	aged.Rules = append([]policy.Rule{{Do: policy.Hold, OlderThan: 3}}, aged.Rules...)
	town := policy.Careful()
	town.Rules = append([]policy.Rule{{Do: policy.Drop, Column: "town", Values: []string{"town 1"}}}, town.Rules...)
	domain := policy.Policy{Rules: []policy.Rule{{Do: policy.Keep, Domains: []string{"d0.example"}}}, Otherwise: policy.Hold}
	terms := policy.Policy{Rules: []policy.Rule{{Do: policy.Drop, TermLists: []string{"Towns"}, Column: "town"}}, Otherwise: policy.Keep}
	lively := policy.Policy{Rules: []policy.Rule{{Do: policy.Keep, ActiveWithin: 60}, {Do: policy.Drop, InactiveFor: 365}}, Otherwise: policy.Hold}
	both := policy.Policy{Rules: []policy.Rule{{Do: policy.Keep, OpinionOf: "towns", Opinions: []finding.Finding{finding.Deliverable}}}, Otherwise: policy.Hold}
	return []policy.Policy{policy.Careful(), policy.ReachFurther(), policy.Strict(), aged, town, domain, terms, lively, both}
}

func decider(t *testing.T, s *decidetest.Source, p policy.Policy) *decide.Decider {
	t.Helper()
	d, err := decide.New(t.Context(), s, s.Run, s.List, p)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// TestCountsAgree: rows counted by verdict are those counted one by one, every row once,
// with overrides and without; and they are as many as the filters find.
func TestCountsAgree(t *testing.T) {
	s := decidetest.Members(400)
	s.Run.CreatedAt = time.Now().Add(-10 * 24 * time.Hour)
	for _, hand := range [][]store.Override{nil, {{Address: 1, Decision: policy.Drop}, {Address: 2, Decision: policy.Keep, Verdict: 1}, {Address: 4, Decision: policy.Hold, Verdict: 3}}} {
		s.Hand = hand
		for n, p := range policies() {
			d := decider(t, s, p)
			if d.ByVerdict() != (n < 3) {
				t.Errorf("policy %d rules by verdict: %v", n, d.ByVerdict())
			}
			counts, _ := s.ResultCounts(t.Context(), s.Run, store.ResultFilter{})
			got, err := new(decide.Memory).Tally(t.Context(), d, counts)
			if err != nil {
				t.Fatal(err)
			}
			want := policy.Tally{}
			for i := range s.Rows {
				rows, _ := s.RowsOf(t.Context(), s.Run, s.List, []int32{int32(i + 1)})
				_, rule := d.Row(rows[int32(i+1)])
				want[d.Ruling(rule)]++
			}
			if fmt.Sprint(got.Counts()) != fmt.Sprint(want.Counts()) || got.Total() != int64(len(s.Rows)) {
				t.Errorf("policy %d: counted %v, one by one %v", n, got.Counts(), want.Counts())
			}
			holdFilters(t, d)
		}
	}
}

// holdFilters holds the results with each decision against all of them.
func holdFilters(t *testing.T, d *decide.Decider) {
	t.Helper()
	all, err := d.Results(t.Context(), decide.Filter{}, 0, 1000)
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, decision := range policy.Decisions() {
		f := decide.Filter{Decision: string(decision)}
		some, err := d.Matching(t.Context(), f, 1000)
		if err != nil {
			t.Fatal(err)
		}
		found += len(some)
		for _, r := range all {
			if (r.Decision == decision) != slices.Contains(some, r.Address) {
				t.Errorf("address %d is to be %s; among those %s: %v", r.Address, r.Decision, decision, slices.Contains(some, r.Address))
			}
		}
		if !d.ByVerdict() {
			continue
		}
		f.Finding = string(finding.Deliverable)
		pool, err := d.Pool(t.Context(), f)
		if err != nil {
			t.Fatal(err)
		}
		if some, _ = d.Matching(t.Context(), f, 1000); int64(len(some)) != pool.Count(f) {
			t.Errorf("%d deliverable are to be %s, and %d are counted", len(some), decision, pool.Count(f))
		}
	}
	if found != len(all) {
		t.Errorf("%d of %d results have a decision", found, len(all))
	}
}

// TestOverrides: what a person decided goes before the policy, is found as such, and is
// told by its own reason.
func TestOverrides(t *testing.T) {
	s := decidetest.Members(60)
	s.Hand = []store.Override{{Address: 3, Decision: policy.Drop, Verdict: s.Rows[2].Verdict}}
	d := decider(t, s, policy.ReachFurther())
	rows, _ := s.RowsOf(t.Context(), s.Run, s.List, []int32{3})
	_, rule := d.Row(rows[3])
	if got := d.Ruling(rule); got.Decision != policy.Drop || got.Code != policy.Overridden || rule.OfPolicy() {
		t.Errorf("%+v", got)
	}
	some, err := d.Results(t.Context(), decide.Filter{Overridden: true}, 0, 10)
	if err != nil || len(some) != 1 || some[0].Address != 3 || some[0].Decision != policy.Drop {
		t.Errorf("overrides: %+v, %v", some, err)
	}
	if decision, ok := d.Override(4); ok || decision != "" {
		t.Error("another address has an override")
	}
}

// TestResultsInPages: pages put together are all results, in order, whatever the filter.
func TestResultsInPages(t *testing.T) {
	s := decidetest.Members(300)
	for n, p := range policies() {
		d := decider(t, s, p)
		f := decide.Filter{Filter: contract.Filter{Domain: "d1.example"}, Decision: "keep"}
		whole, err := d.Matching(t.Context(), f, 1000)
		if err != nil {
			t.Fatal(err)
		}
		var pages []int32
		for after := int32(0); ; {
			page, err := d.Results(t.Context(), f, after, 7)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range page {
				pages, after = append(pages, r.Address), r.Address
			}
			if len(page) < 7 {
				break
			}
		}
		if !slices.Equal(pages, whole) || !slices.IsSorted(pages) {
			t.Errorf("policy %d: pages %v, whole %v", n, pages, whole)
		}
		if most, _ := d.Matching(t.Context(), f, 2); len(whole) > 3 && len(most) != 3 {
			t.Errorf("policy %d: %d of at most 2 and one", n, len(most))
		}
	}
}

// TestMemory: rows are not counted again while nothing new is found out.
func TestMemory(t *testing.T) {
	s := decidetest.Members(100)
	town := policies()[4]
	counts, _ := s.ResultCounts(t.Context(), s.Run, store.ResultFilter{})
	ended := time.Now()
	s.Run.FinishedAt = &ended
	m := new(decide.Memory)
	count := func(p policy.Policy) int {
		before := s.Read
		if _, err := m.Tally(t.Context(), decider(t, s, p), counts); err != nil {
			t.Fatal(err)
		}
		return s.Read - before
	}
	if first, again := count(town), count(town); first != 100 || again != 0 {
		t.Errorf("%d rows were looked at, and %d again", first, again)
	}
	counts[1]++
	if n := count(town); n != 100 {
		t.Errorf("%d rows were looked at after a new result", n)
	}
	s.Hand = []store.Override{{Address: 1, Decision: policy.Keep}}
	if n := count(town); n != 100 {
		t.Errorf("%d rows were looked at after an override", n)
	}
	if n := count(policy.Careful()); n != 0 {
		t.Errorf("%d rows were looked at under a policy that rules by verdict", n)
	}
}

// TestAReusedResultMayBeOld: results reused from earlier runs count for rules that look at
// the age of results.
func TestAReusedResultMayBeOld(t *testing.T) {
	s := decidetest.Members(10)
	s.Run.ReuseDays = 60
	if !decider(t, s, policy.Strict()).ByVerdict() {
		t.Error("a run that reused nothing is a minute old at most")
	}
	s.Run.Plan.Reused = 1
	if decider(t, s, policy.Strict()).ByVerdict() {
		t.Error("a result that was reused may be older than the policy allows")
	}
}

// TestFilterWords: a filter says what it chooses.
func TestFilterWords(t *testing.T) {
	for want, f := range map[string]decide.Filter{
		"":                       {},
		"with the decision keep": {Decision: "keep"},
		"at d.example, with the decision drop, overridden by a person": {Filter: contract.Filter{Domain: "d.example"}, Decision: "drop", Overridden: true},
	} {
		if got := f.Words(); got != want {
			t.Errorf("%+v is said %q, want %q", f, got, want)
		}
	}
}

// TestSavedTerms: a rule fits the rows that hold a term of a saved list, in its column or in any, and
// what is remembered of counts is forgotten when the terms change.
func TestSavedTerms(t *testing.T) {
	s, m := decidetest.Members(200), &decide.Memory{}
	drop := func(r policy.Rule) int64 {
		t.Helper()
		r.Do = policy.Drop
		d := decider(t, s, policy.Policy{Name: "terms", Rules: []policy.Rule{r}, Otherwise: policy.Keep})
		got, err := m.Tally(t.Context(), d, nil)
		if err != nil {
			t.Fatal(err)
		}
		return got.ByRule[0]
	}
	s.Terms = []store.SavedTerms{{Name: "towns", Terms: []string{"Town 1"}}}
	cell, word := drop(policy.Rule{TermLists: []string{"Towns"}, Column: "town"}), drop(policy.Rule{TermLists: []string{"Towns"}, How: "part"})
	if cell == 0 || word < cell {
		t.Errorf("%d rows by the cell, %d anywhere", cell, word)
	}
	if n := drop(policy.Rule{TermLists: []string{"Gone"}}); n != 0 {
		t.Errorf("%d rows hold terms that there are not", n)
	}
	s.Terms = []store.SavedTerms{{Name: "towns", Terms: []string{"Town 1", "Town 2"}, ChangedAt: time.Now()}}
	if n := drop(policy.Rule{TermLists: []string{"Towns"}, Column: "town"}); n <= cell {
		t.Errorf("%d rows by two towns, %d by one", n, cell)
	}
}

// TestBeside: rules look at when something was seen of an address, and at what another check found; what
// changes of it is counted anew.
func TestBeside(t *testing.T) {
	s := decidetest.Members(40)
	all := policies()
	lively, both := all[len(all)-2], all[len(all)-1]
	now := time.Now()
	s.Seen = map[int32]activity.Seen{2: {At: now.AddDate(0, 0, -10), Kind: "opened"}, 3: {At: now.AddDate(0, 0, -100)}, 4: {At: now.AddDate(-2, 0, 0)}}
	s.List.Meanings = []sheet.Meaning{{Column: slices.Index(s.List.Columns, "town"), Holds: sheet.Opinion, Of: "Towns"}}
	decided := func(p policy.Policy, address int32) policy.Decision {
		t.Helper()
		d := decider(t, s, p)
		rows, err := s.RowsOf(t.Context(), s.Run, s.List, []int32{address})
		if err != nil || d.ByVerdict() {
			t.Fatal(err, d.ByVerdict())
		}
		row := rows[address]
		return d.Ruling(d.Cell(row, row.Cell(address))).Decision
	}
	for address, want := range map[int32]policy.Decision{2: policy.Keep, 3: policy.Hold, 4: policy.Drop, 5: policy.Drop} {
		if got := decided(lively, address); got != want {
			t.Errorf("address %d is %s, want %s", address, got, want)
		}
	}
	if !decider(t, s, lively).Changes() || decider(t, s, both).Changes() {
		t.Error("activity changes by time, and another check does not")
	}
	before := decider(t, s, both).State()
	if got := decided(both, 2); got != policy.Hold {
		t.Errorf("with no meaning of its words it is %s", got)
	}
	d := s.List.Dialect.Kept()
	rows, _ := s.RowsOf(t.Context(), s.Run, s.List, []int32{2})
	town := d.Cell(rows[2].Raw, s.List.Meanings[0].Column)
	s.Means = map[string]opinion.Means{"towns": {opinion.Word(town): finding.Deliverable}}
	if got := decided(both, 2); got != policy.Keep || decider(t, s, both).State() == before {
		t.Errorf("what the other check found deliverable is %s", got)
	}
}
