package store_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/resolve"
	"varnet/core/sheet"
	"varnet/internal/store"
)

// model is a list and what a run found of it, held in the plainest way: what the
// store returns is held against it.
type model struct {
	run      store.Run
	typed    []string // by ordinal, from 1
	domains  []string // "" for what is not an address
	verdicts []int32  // 0: not concluded
	operator map[string]string
}

// newModel brings a list of several domains in, with malformed cells among them.
func newModel(t *testing.T, s *store.Store, w int64, rng *rand.Rand, n int32) *model {
	t.Helper()
	m := &model{typed: []string{""}, domains: []string{""}, verdicts: make([]int32, n+1), operator: map[string]string{
		"fernhollow.example": "sundial.example", "mossgate.example": "sundial.example", "honeybed.example": "honeybed.example", "rye.example": "millrace.example"}}
	names := slices.Sorted(func(yield func(string) bool) {
		for d := range m.operator {
			if !yield(d) {
				return
			}
		}
	})
	members := map[string]*store.Members{}
	for i := int32(1); i <= n; i++ {
		domain := names[min(rng.IntN(7), len(names)-1)]
		local := fmt.Sprintf("%c%d", 'a'+rng.IntN(4), i)
		m.typed, m.domains = append(m.typed, strings.ToUpper(local[:1])+local[1:]+"@"+domain), append(m.domains, domain)
		if rng.IntN(20) == 0 {
			m.typed[i], m.domains[i] = "no address "+local, ""
			continue
		}
		if members[domain] == nil {
			members[domain] = &store.Members{}
		}
		members[domain].Add(i, m.typed[i][:len(local)], nil)
	}
	l := store.List{WorkspaceID: w, Name: "members", Columns: []string{"e-mail"}, AddressColumns: []int{0}, Kinds: []sheet.Kind{{Type: sheet.Text}}, Header: []byte{}, Dialect: sheet.Dialect{Encoding: sheet.UTF8}}
	l.Rows, l.Addresses = int64(n), int64(n)
	bring(t, s, &l, n, members, func(at int32) *store.Row {
		r := &store.Row{Ordinal: at, Line: int64(at), Raw: []byte(m.typed[at] + "\n"), Typed: m.typed[at], Address: at, Domain: m.domains[at]}
		if r.Domain == "" {
			r.Problem = &store.Problem{Cause: string(finding.SyntaxMalformed), Reason: "no @"}
		} else {
			r.Mailbox = r.Typed
		}
		return r
	})
	m.run = store.Run{WorkspaceID: w, ListID: l.ID, Depth: store.DepthMailbox, Policy: policy.Careful(), State: store.Running}
	m.run.BeginAt = time.Now()
	if err := s.CreateRun(t.Context(), &m.run); err != nil {
		t.Fatal(err)
	}
	var told []store.RunDomain
	for d, op := range m.operator {
		told = append(told, store.RunDomain{Domain: d, Operator: op, Facts: resolve.Domain{Name: d}})
	}
	if err := s.AddRunDomains(t.Context(), m.run.ID, told); err != nil {
		t.Fatal(err)
	}
	smallParts(t, s, l.ID)
	return m
}

// smallParts cuts the parts of a list's domains into some of 100 addresses, as those of a large list are many.
func smallParts(t *testing.T, s *store.Store, list int64) {
	t.Helper()
	cut, err := s.Pool().Exec(t.Context(), `WITH gone AS (DELETE FROM list_part WHERE list_id = $1 RETURNING domain, ordinals, mailboxes)
		INSERT INTO list_part (list_id, domain, last, ordinals, mailboxes)
		SELECT $1, domain, max(o), array_agg(o ORDER BY o), string_agg(m, E'\n' ORDER BY o)
		FROM gone, unnest(ordinals, string_to_array(mailboxes, E'\n')) WITH ORDINALITY AS u (o, m, n) GROUP BY domain, (n - 1) / 100`, list)
	if err != nil || cut.RowsAffected() < 10 {
		t.Fatalf("%d parts, %v", cut.RowsAffected(), err)
	}
}

// conclude returns some addresses another result, in batches as parcels bring them.
func (m *model) conclude(t *testing.T, s *store.Store, rng *rand.Rand) {
	t.Helper()
	causes := []finding.Cause{finding.MailboxAccepted, finding.MailboxAbsent, finding.ExchangerPostponed, finding.MailboxAnyAccepted}
	for range 12 {
		var results []store.Concluded
		for a := range int32(len(m.typed)) {
			if a > 0 && rng.IntN(9) == 0 {
				results = append(results, store.Concluded{Address: a, Verdict: finding.ConcludeFrom(causes[rng.IntN(len(causes))], nil), Was: m.verdicts[a]})
			}
		}
		rng.Shuffle(len(results), func(i, j int) { results[i], results[j] = results[j], results[i] })
		concludeSome(t, s, m.run, results...)
		known, err := s.Verdicts(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range results {
			for id, v := range known {
				if reflect.DeepEqual(v.Cause, r.Verdict.Cause) {
					m.verdicts[r.Address] = id
				}
			}
		}
	}
}

// fits reports whether a filter chooses an address.
func (m *model) fits(f store.ResultFilter, a int32) bool {
	return m.verdicts[a] != 0 && a > f.After && (f.Verdicts == nil || slices.Contains(f.Verdicts, m.verdicts[a])) &&
		(f.Domain == "" || m.domains[a] == strings.ToLower(f.Domain)) && (f.Operator == "" || m.domains[a] != "" && m.operator[m.domains[a]] == f.Operator) &&
		strings.Contains(strings.ToLower(m.typed[a]), strings.ToLower(f.Search))
}

// TestFiltersAgainstAModel asks for pages, counts and choices by every kind of
// filter, and holds them against the model.
func TestFiltersAgainstAModel(t *testing.T) {
	s := open(t)
	rng := rand.New(rand.NewPCG(26, 11))
	m := newModel(t, s, workspace(t, s, "ours"), rng, 4300)
	m.conclude(t, s, rng)
	pick := func(from ...string) string { return from[rng.IntN(len(from))] }
	for round := range 160 {
		if round == 80 {
			m.conclude(t, s, rng) // more is known meanwhile
		}
		f := store.ResultFilter{Search: pick("", "", "a1", "B2", "@rye", "no address", "_", "nothing of the kind"), Domain: pick("", "", "rye.example", "FERNHOLLOW.example", "unknown.example"),
			Operator: pick("", "", "", "sundial.example", "nobody.example"), After: int32(rng.IntN(3) * rng.IntN(4300)), Limit: 1 + rng.IntN(300)}
		if rng.IntN(2) == 0 {
			f.Verdicts = []int32{}
			for v := range int32(8) {
				if rng.IntN(3) == 0 {
					f.Verdicts = append(f.Verdicts, v)
				}
			}
		}
		m.holdPage(t, s, f)
		m.holdCounts(t, s, f)
		m.holdAmong(t, s, rng, f)
	}
}

func (m *model) holdPage(t *testing.T, s *store.Store, f store.ResultFilter) {
	t.Helper()
	found, err := s.Results(t.Context(), m.run, f)
	if err != nil {
		t.Fatal(err)
	}
	var want []int32
	for a := int32(1); a < int32(len(m.typed)) && len(want) < f.Limit; a++ {
		if m.fits(f, a) {
			want = append(want, a)
		}
	}
	var got []int32
	for _, r := range found {
		got = append(got, r.Address)
		if r.Typed != m.typed[r.Address] || r.Verdict != m.verdicts[r.Address] || (r.Domain == nil) != (m.domains[r.Address] == "") || r.At.IsZero() {
			t.Errorf("%+v: address %d stands as %+v; want %q with verdict %d", f, r.Address, r, m.typed[r.Address], m.verdicts[r.Address])
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("%+v: the page has %d results, %v; want %d, %v", f, len(got), got[:min(len(got), 8)], len(want), want[:min(len(want), 8)])
	}
}

func (m *model) holdCounts(t *testing.T, s *store.Store, f store.ResultFilter) {
	t.Helper()
	got, err := s.ResultCounts(t.Context(), m.run, f)
	if err != nil {
		t.Fatal(err)
	}
	want := map[int32]int64{}
	for a := int32(1); a < int32(len(m.typed)); a++ {
		if m.fits(f, a) {
			want[m.verdicts[a]]++
		}
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%+v: counts %v; want %v", f, got, want)
	}
}

func (m *model) holdAmong(t *testing.T, s *store.Store, rng *rand.Rand, f store.ResultFilter) {
	t.Helper()
	var chosen, want []int32
	for range 200 {
		chosen = append(chosen, int32(rng.IntN(len(m.typed)+50)))
	}
	chosen = slices.Compact(slices.Sorted(slices.Values(chosen)))
	for _, a := range chosen {
		if int(a) < len(m.typed) && m.fits(f, a) && len(want) < f.Limit {
			want = append(want, a)
		}
	}
	rng.Shuffle(len(chosen), func(i, j int) { chosen[i], chosen[j] = chosen[j], chosen[i] })
	found, err := s.ResultsAmong(t.Context(), m.run, f, chosen)
	if err != nil {
		t.Fatal(err)
	}
	var got []int32
	for _, r := range found {
		got = append(got, r.Address)
	}
	if !slices.Equal(got, want) {
		t.Errorf("%+v: among %d there are %v; want %v", f, len(chosen), got, want)
	}
}

// TestPlacesAgainstAModel holds the counts by domain and operator, and two runs
// compared, against the model.
func TestPlacesAgainstAModel(t *testing.T) {
	s, ctx := open(t), t.Context()
	rng := rand.New(rand.NewPCG(3, 4))
	m := newModel(t, s, workspace(t, s, "ours"), rng, 900)
	m.conclude(t, s, rng)
	byDomain, byOperator := map[string]map[int32]int64{}, map[string]map[int32]int64{}
	add := func(to map[string]map[int32]int64, name string, v int32) {
		if to[name] == nil {
			to[name] = map[int32]int64{}
		}
		to[name][v]++
	}
	for a, v := range m.verdicts {
		if d := m.domains[a]; v != 0 && d != "" {
			add(byDomain, d, v)
			add(byOperator, m.operator[d], v)
		}
	}
	domains, err := s.DomainVerdicts(ctx, m.run, []string{"rye.example", "honeybed.example", "unknown.example"})
	if err != nil || !reflect.DeepEqual(domains, map[string]map[int32]int64{"rye.example": byDomain["rye.example"], "honeybed.example": byDomain["honeybed.example"]}) {
		t.Errorf("domains: %v, %v", domains, err)
	}
	operators, err := s.OperatorVerdicts(ctx, m.run, []string{"sundial.example", "millrace.example", "honeybed.example"})
	if err != nil || !reflect.DeepEqual(operators, byOperator) {
		t.Errorf("operators: %v, %v; want %v", operators, err, byOperator)
	}
	places, err := s.OperatorPlaces(ctx, m.run, []int32{1, 2}, 2)
	if err != nil || len(places) != 2 || places[0].Addresses < places[1].Addresses {
		t.Fatalf("places: %+v, %v", places, err)
	}
	for _, p := range places {
		all, deliverable := int64(0), byOperator[p.Name][1]+byOperator[p.Name][2]
		for _, n := range byOperator[p.Name] {
			all += n
		}
		if p.Addresses != all || p.Deliverable != deliverable {
			t.Errorf("%+v; want %d, of which %d", p, all, deliverable)
		}
	}
	earlier := slices.Clone(m.verdicts)
	next := *m
	next.run.ID, next.verdicts = 0, make([]int32, len(m.verdicts))
	if err := s.CreateRun(ctx, &next.run); err != nil {
		t.Fatal(err)
	}
	next.conclude(t, s, rng)
	pairs, err := s.Pairs(ctx, m.run.ID, next.run.ID)
	if err != nil {
		t.Fatal(err)
	}
	want, changed := map[[2]int32]int64{}, 0
	for a := range earlier {
		if earlier[a] != 0 && next.verdicts[a] != 0 {
			want[[2]int32{earlier[a], next.verdicts[a]}]++
			if earlier[a] == 1 && next.verdicts[a] == 2 {
				changed++
			}
		}
	}
	for _, p := range pairs {
		if want[[2]int32{p.From, p.To}] != p.Addresses {
			t.Errorf("%+v; want %d", p, want[[2]int32{p.From, p.To}])
		}
	}
	if len(pairs) != len(want) {
		t.Errorf("%d kinds of pairs; want %d", len(pairs), len(want))
	}
	rows, err := s.ChangedResults(ctx, m.run, next.run, []store.VerdictPair{{From: 1, To: 2}}, 1000)
	if err != nil || len(rows) != changed {
		t.Errorf("%d changed from 1 to 2, %v; want %d", len(rows), err, changed)
	}
}
