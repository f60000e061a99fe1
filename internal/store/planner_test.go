package store_test

import (
	"errors"
	"fmt"
	"net/url"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/resolve"
	"varnet/internal/store"
	"varnet/internal/store/pack"
	"varnet/internal/testkit"
)

// TestNewListsAreNotTakenForSmall asks all that joins rows and results of a list
// that the planner has not looked at yet, after it has looked at a small one. A
// plan that goes through all rows for each of them would take hours; it is broken
// off.
func TestNewListsAreNotTakenForSmall(t *testing.T) {
	dsn := testkit.Database(t)
	limited, err := url.Parse(dsn)
	if err != nil {
		t.Fatal(err)
	}
	q := limited.Query()
	q.Set("statement_timeout", "20s")
	limited.RawQuery = q.Encode()
	s, err := store.Open(t.Context(), limited.String())
	if err == nil {
		err = s.Migrate(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	w := workspace(t, s, "seed library")
	concluded(t, s, newRun(t, s, w, 600), 600)
	conn, err := pgx.Connect(t.Context(), dsn)
	if err == nil {
		_, err = conn.Exec(t.Context(), "ANALYZE")
	}
	if err != nil {
		t.Fatal(err)
	}
	_ = conn.Close(t.Context())

	const many = 25_000
	run := newRun(t, s, w, many)
	concluded(t, s, run, many)
	list, err := s.List(t.Context(), w, run.ListID)
	if err != nil {
		t.Fatal(err)
	}
	next := store.Run{WorkspaceID: w, ListID: run.ListID, Depth: store.DepthMailbox, Policy: run.Policy, State: store.Running}
	next.BeginAt = run.BeginAt
	if err := s.CreateRun(t.Context(), &next); err != nil {
		t.Fatal(err)
	}
	concluded(t, s, next, many)
	all := make([]int32, many)
	for i := range all {
		all[i] = int32(i) + 1
	}
	if _, err := s.SetOverrides(t.Context(), list.ID, all[:10_000], policy.Keep); err != nil {
		t.Fatal(err)
	}
	other := newRun(t, s, w, many) // of another list with the same addresses
	otherList, err := s.List(t.Context(), w, other.ListID)
	if err != nil {
		t.Fatal(err)
	}
	verdicts, err := s.Verdicts(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var fresh []store.Fresh
	for id := range verdicts {
		fresh = append(fresh, store.Fresh{Verdict: id, Since: run.BeginAt.Add(-time.Hour)})
	}
	page := store.ResultFilter{Limit: many}
	for what, ask := range map[string]func() (int, error){
		"results by text": func() (int, error) { f := page; f.Search = "a1"; return count(s.Results(t.Context(), run, f)) },
		"results by domain": func() (int, error) {
			f := page
			f.Domain = "fernhollow.example"
			return count(s.Results(t.Context(), run, f))
		},
		"results by operator": func() (int, error) {
			f := page
			f.Operator = "fernhollow.example"
			return count(s.Results(t.Context(), run, f))
		},
		"results among some":  func() (int, error) { return count(s.ResultsAmong(t.Context(), run, page, all)) },
		"overrides":           func() (int, error) { return size(s.Overrides(t.Context(), run)) },
		"domains of a report": func() (int, error) { return count(s.DomainPlaces(t.Context(), run, nil, 10)) },
		"operators of it":     func() (int, error) { return count(s.OperatorPlaces(t.Context(), run, nil, 10)) },
		"verdicts of domains": func() (int, error) { return size(s.DomainVerdicts(t.Context(), run, []string{"fernhollow.example"})) },
		"and of operators":    func() (int, error) { return size(s.OperatorVerdicts(t.Context(), run, []string{"fernhollow.example"})) },
		"two runs compared":   func() (int, error) { return count(s.Pairs(t.Context(), run.ID, next.ID)) },
		"what can be taken over": func() (int, error) {
			n, err := s.Reusable(t.Context(), other, fresh, false)
			return int(n), err
		},
		"what two lists have in common": func() (n int, err error) {
			err = s.EachCommon(t.Context(), list, otherList, func(*store.Trouble) error { n++; return nil })
			return n, err
		},
		"addresses to ask": func() (int, error) {
			return count(s.AddressesIn(t.Context(), run, []string{"fernhollow.example"}, 0, many))
		},
		"rows with the replies": func() (n int, err error) {
			err = s.EachRow(t.Context(), run, list, store.OutWith{Domains: true, Replies: true}, func(*store.OutRow) error { n++; return nil })
			return n, err
		},
	} {
		if n, err := ask(); err != nil || n == 0 {
			t.Errorf("%s: %d, %v", what, n, err)
		}
	}
}

func count[T any](found []T, err error) (int, error) { return len(found), err }

func size[K comparable, T any](found map[K]T, err error) (int, error) { return len(found), err }

// concluded returns each address of a run's list a result, and the run its domain.
func concluded(t *testing.T, s *store.Store, run store.Run, n int32) {
	t.Helper()
	results := make([]store.Concluded, n)
	for i := range results {
		cause := finding.MailboxAccepted
		if i%7 == 0 {
			cause = finding.MailboxAbsent
		}
		results[i] = store.Concluded{Address: int32(i) + 1, Verdict: finding.ConcludeFrom(cause, nil)}
	}
	err := s.KnowVerdicts(t.Context(), results)
	if err == nil {
		err = s.InTx(t.Context(), func(s *store.Store, _ pgx.Tx) error { return s.AddResults(t.Context(), run.ID, results) })
	}
	if err == nil {
		err = s.AddRunDomains(t.Context(), run.ID, []store.RunDomain{{Domain: "fernhollow.example", Operator: "fernhollow.example", Facts: resolve.Domain{Name: "fernhollow.example"}}})
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestManyRunsBeginAtOnce: lanes and planning read few parcels beyond those they ask for, even where PostgreSQL's statistics date
// from a quiet hour, when none was at work.
func TestManyRunsBeginAtOnce(t *testing.T) {
	const runs, keys, each = 40, 10, 2
	s := open(t)
	w, ctx := workspace(t, s, "ours"), t.Context()
	quiet := newRun(t, s, w, 600)
	for n := range int32(600) {
		add(t, s, parcel(quiet, 0, time.Now(), n+1))
	}
	dsn := s.Pool().Config().ConnString()
	s.Close() // a session that ends tells the statistics what it read
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	read := func() (n int) {
		t.Helper()
		err := conn.QueryRow(ctx, "SELECT (SELECT sum(idx_tup_read) FROM pg_stat_user_indexes WHERE relname = 'parcel') + (SELECT seq_tup_read FROM pg_stat_user_tables WHERE relname = 'parcel')").Scan(&n)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	for _, sql := range []string{"UPDATE parcel SET state = 'done'", "VACUUM ANALYZE", "SELECT pg_stat_force_next_flush()"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	before := read()

	if s, err = store.Open(ctx, dsn); err != nil {
		t.Fatal(err)
	}
	asked := 0
	for range runs {
		run := newRun(t, s, w, keys*each)
		parcels := make([]store.Parcel, keys*each)
		for n := range parcels {
			parcels[n] = parcel(run, 0, time.Now(), int32(n)+1)
			parcels[n].LaneKey = fmt.Sprintf("op-%d.example", n%keys)
		}
		if err := errors.Join(s.StandInLine(ctx, run, parcels), s.AddParcels(ctx, parcels)); err != nil {
			t.Fatal(err)
		}
		asked += keys
	}
	for lane := range runs {
		p, err := s.Claim(ctx, "op-3.example", lane)
		if err != nil || p == nil {
			t.Fatalf("claimed %v, %v", p, err)
		}
		if _, err := s.RecordParcel(ctx, p.ID, lane, pack.ParcelRecord{}, nil); err != nil {
			t.Fatal(err)
		}
		if done, err := s.Done(ctx, 0); err != nil || len(done) != 1 { // the quiet one
			t.Fatalf("done: %v, %v", done, err)
		}
		asked += 2 + runs
	}
	s.Close()
	if n := read() - before; n > 10*asked {
		t.Errorf("%d parcels were read where %d were asked for, of %d that are at work", n, asked, runs*keys*each)
	}
}
