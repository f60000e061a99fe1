package store_test

import (
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/core/probe"
	"varnet/internal/store"
)

// The list of TestFold has rows in three parts.
const foldRows = 70_000

// foldModel is what the latest results of a run are to be: the cause, and what the host said, of each
// address.
type foldModel struct {
	t     *testing.T
	s     *store.Store
	run   store.Run
	cause map[int32]finding.Cause
	reply map[int32]string
	rng   *rand.Rand
}

// TestFold: however results are recorded, recorded again, given other odds and erased, and whenever they are
// folded between, pages, counts and evidence are those of the last results.
func TestFold(t *testing.T) {
	s := open(t)
	m := &foldModel{t, s, newRun(t, s, workspace(t, s, "ours"), foldRows), map[int32]finding.Cause{}, map[int32]string{}, rand.New(rand.NewPCG(7, 28))}
	other := newRun(t, s, m.run.WorkspaceID, 10) // whose batches stand between ours
	for step := range 60 {
		switch m.rng.IntN(6) {
		case 0, 1, 2:
			m.record(1 + m.rng.IntN(3000))
		case 3:
			m.record(1)
			concludeSome(t, s, other, answered(1+int32(step%10), finding.MailboxAccepted, "250 ok"))
		case 4:
			m.fold()
		case 5:
			m.restate()
		}
		if step%20 == 19 {
			m.erase()
		}
		if step%6 == 5 {
			m.check()
		}
	}
	m.fold()
	m.check()
}

var foldCauses = []finding.Cause{finding.MailboxAccepted, finding.MailboxAbsent, finding.ExchangerPostponed, finding.MailboxAnyAccepted}

// record records results of so many addresses that follow each other, whether they have one or not.
func (m *foldModel) record(n int) {
	results := make([]store.Concluded, n)
	first := 1 + m.rng.Int32N(foldRows-int32(n))
	was := m.now()
	for i := range results {
		a := first + int32(i)
		cause := foldCauses[m.rng.IntN(len(foldCauses))]
		reply := "250 " + string(rune('a'+m.rng.IntN(20)))
		results[i] = answered(a, cause, reply)
		results[i].Was = was.Verdict(a)
		m.cause[a], m.reply[a] = cause, reply
	}
	concludeSome(m.t, m.s, m.run, results...)
}

func (m *foldModel) latest() *store.Latest {
	m.t.Helper()
	l, err := m.s.Latest(m.t.Context(), m.run.ID)
	if err != nil {
		m.t.Fatal(err)
	}
	return l
}

func (m *foldModel) now() *store.Whole {
	m.t.Helper()
	w, err := m.latest().Whole(m.t.Context())
	if err != nil {
		m.t.Fatal(err)
	}
	return w
}

// fold folds what is there, as a process of its own does, so that what others remember must be read again.
func (m *foldModel) fold() {
	m.t.Helper()
	for more := true; more; {
		var err error
		if more, err = m.s.Fold(m.t.Context(), m.run.ID); err != nil {
			m.t.Fatal(err)
		}
	}
}

// restate gives a few addresses other odds: their evidence stays.
func (m *foldModel) restate() {
	now := m.now()
	verdicts, err := m.s.Verdicts(m.t.Context())
	if err != nil {
		m.t.Fatal(err)
	}
	var results []store.Concluded
	for _, a := range slices.Sorted(maps.Keys(m.cause)) {
		if len(results) == 200 {
			break
		}
		if m.rng.IntN(9) == 0 {
			v := verdicts[now.Verdict(a)]
			v.Odds = 0.25
			results = append(results, store.Concluded{Address: a, Verdict: v, Was: now.Verdict(a)})
		}
	}
	if err := m.s.KnowVerdicts(m.t.Context(), results); err != nil {
		m.t.Fatal(err)
	}
	if err := m.s.InTx(m.t.Context(), func(s *store.Store, _ pgx.Tx) error { return s.Restate(m.t.Context(), m.run.ID, results) }); err != nil {
		m.t.Fatal(err)
	}
}

// erase takes two addresses out of the run.
func (m *foldModel) erase() {
	m.t.Helper()
	some := slices.Sorted(maps.Keys(m.cause))
	if len(some) < 2 {
		return
	}
	gone := []int32{some[len(some)/3], some[len(some)/2]}
	if err := m.s.EraseOfRun(m.t.Context(), m.run, gone); err != nil {
		m.t.Fatal(err)
	}
	for _, a := range gone {
		delete(m.cause, a)
		delete(m.reply, a)
	}
}

// check holds everything that reads results against the model.
func (m *foldModel) check() {
	m.t.Helper()
	t, ctx, l := m.t, m.t.Context(), m.latest()
	verdicts, err := m.s.Verdicts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	wanted := map[finding.Cause]int64{}
	for _, c := range m.cause {
		wanted[c]++
	}
	counts, err := l.Counts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	progress, err := m.s.Progress(ctx, m.run.ID)
	if err != nil {
		t.Fatal(err)
	}
	for of, by := range map[string]map[int32]int64{"counts": counts, "the tally": progress[m.run.ID].Verdicts} {
		got := map[finding.Cause]int64{}
		for v, n := range by {
			got[verdicts[v].Cause] += n
		}
		if maps.DeleteFunc(got, func(_ finding.Cause, n int64) bool { return n == 0 }); !maps.Equal(got, wanted) {
			t.Fatalf("%s: %v, not %v", of, got, wanted)
		}
	}
	var order []int32
	err = l.Each(ctx, 0, nil, func(one store.Standing) bool {
		if order = append(order, one.Address); verdicts[one.Verdict].Cause != m.cause[one.Address] {
			t.Fatalf("address %d: %s, not %s", one.Address, verdicts[one.Verdict].Cause, m.cause[one.Address])
		}
		return true
	})
	all := slices.Sorted(maps.Keys(m.cause))
	if err != nil || !slices.Equal(order, all) {
		t.Fatalf("%d addresses have a result, not %d: %v", len(order), len(all), err)
	}
	whole, err := l.WholeWithBatches(ctx)
	if err != nil {
		t.Fatal(err)
	}
	verdictsAlone := m.now()
	for _, a := range all {
		_, at := whole.Batch(a)
		if verdicts[whole.Verdict(a)].Cause != m.cause[a] || verdictsAlone.Verdict(a) != whole.Verdict(a) || time.Since(at) > time.Hour {
			t.Fatalf("address %d stands otherwise in the whole", a)
		}
	}
	m.checkPage(all)
}

// checkPage holds a page by cause and its evidence against the model.
func (m *foldModel) checkPage(all []int32) {
	m.t.Helper()
	t, ctx := m.t, m.t.Context()
	verdicts, err := m.s.Verdicts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var of []int32
	for v, verdict := range verdicts {
		if verdict.Cause == finding.MailboxAbsent {
			of = append(of, v)
		}
	}
	after := m.rng.Int32N(foldRows)
	page, err := m.s.Results(ctx, m.run, store.ResultFilter{Verdicts: of, After: after, Limit: 50})
	if err != nil {
		t.Fatal(err)
	}
	var found, want []int32
	for _, r := range page {
		found = append(found, r.Address)
	}
	for _, a := range all {
		if a > after && m.cause[a] == finding.MailboxAbsent && len(want) < 50 {
			want = append(want, a)
		}
	}
	if !slices.Equal(found, want) {
		t.Fatalf("a page after %d: %v, not %v", after, found, want)
	}
	for _, r := range page[:min(2, len(page))] {
		full, err := m.s.FullResult(ctx, m.run, r.Address)
		if err != nil || !slices.ContainsFunc(full.Asked, func(a probe.Asked) bool { return a.Reply == m.reply[r.Address] }) {
			t.Fatalf("the evidence of %d: %+v, %v", r.Address, full.Asked, err)
		}
	}
}
