package store_test

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/catalogue"
	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/policy"
	"varnet/core/probe"
	"varnet/core/sheet"
	"varnet/internal/store"
	"varnet/internal/store/migrate"
	"varnet/internal/store/pack"
	"varnet/internal/testkit"
)

func open(t *testing.T) *store.Store {
	t.Helper()
	t.Parallel() // they wait for PostgreSQL, each in a database of its own
	s, err := store.Open(t.Context(), testkit.Database(t))
	if err == nil {
		err = s.Migrate(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	s.FingerprintBy(keyedWith("one"))
	return s
}

// keyedWith makes fingerprints by secrets of these names, the present one first.
func keyedWith(names ...string) func() store.Fingerprints {
	prints := func(text string) (out []store.Fingerprint) {
		for _, name := range names {
			sum := sha256.Sum256([]byte(name + text))
			out = append(out, store.Fingerprint{Secret: []byte(name), Sum: sum[:]})
		}
		return out
	}
	return func() store.Fingerprints { return prints }
}

// here is where the tests call from.
var here = netip.MustParseAddr("127.0.0.1")

func workspace(t *testing.T, s *store.Store, name string) int64 {
	t.Helper()
	w, err := s.NewWorkspace(t.Context(), name)
	if err != nil || w.Name != name {
		t.Fatalf("%+v, %v", w, err)
	}
	return w.ID
}

// complete records the addresses of a list's domains, and its counts.
func complete(t *testing.T, s *store.Store, l *store.List, members map[string]*store.Members) error {
	if err := s.AddMembers(t.Context(), l.ID, members); err != nil {
		return err
	}
	return s.CompleteList(t.Context(), l, func(yield func(string, int32) bool) {
		for name, m := range members {
			if !yield(name, m.Len()) {
				return
			}
		}
	})
}

// bring brings a list of n address cells in, with the addresses of each domain.
func bring(t *testing.T, s *store.Store, l *store.List, n int32, members map[string]*store.Members, cell func(ordinal int32) *store.Row) {
	t.Helper()
	ordinal := int32(0)
	err := s.InTx(t.Context(), func(s *store.Store, _ pgx.Tx) error {
		if err := s.CreateList(t.Context(), l); err != nil {
			return err
		}
		err := s.CopyRows(t.Context(), l.ID, func() (*store.Row, error) {
			if ordinal++; ordinal > n {
				return nil, nil
			}
			return cell(ordinal), nil
		})
		if err != nil {
			return err
		}
		return complete(t, s, l, members)
	})
	if err != nil {
		t.Fatal(err)
	}
}

// newRun makes a list of n addresses and a run of it whose planning is done.
func newRun(t *testing.T, s *store.Store, w int64, n int32) store.Run {
	t.Helper()
	l := store.List{WorkspaceID: w, Name: "members", Columns: []string{"e-mail"}, AddressColumns: []int{0}, Kinds: []sheet.Kind{{Type: sheet.Text}}, Header: []byte("e-mail\n"), Dialect: sheet.Dialect{Encoding: sheet.UTF8}}
	l.Rows, l.Addresses = int64(n), int64(n)
	members := &store.Members{}
	for i := range n {
		members.Add(i+1, fmt.Sprintf("a%d", i+1), nil)
	}
	bring(t, s, &l, n, map[string]*store.Members{"fernhollow.example": members}, func(ordinal int32) *store.Row {
		typed := fmt.Sprintf("a%d@fernhollow.example", ordinal)
		return &store.Row{Ordinal: ordinal, Line: int64(ordinal), Raw: []byte(typed + "\n"), Typed: typed, Address: ordinal, Mailbox: typed, Domain: "fernhollow.example"}
	})
	r := store.Run{WorkspaceID: w, ListID: l.ID, Depth: store.DepthMailbox, Policy: policy.Careful(), State: store.Running}
	r.BeginAt = time.Now()
	if err := s.CreateRun(t.Context(), &r); err != nil {
		t.Fatal(err)
	}
	if err := s.SavePlan(t.Context(), r.ID, store.Plan{Done: true}); err != nil {
		t.Fatal(err)
	}
	return r
}

func parcel(run store.Run, turn int32, notBefore time.Time, addresses ...int32) store.Parcel {
	p := store.Parcel{RunID: run.ID, LaneKey: "op.example", Turn: turn, Round: 1, NotBefore: notBefore}
	for _, a := range addresses {
		p.Questions = append(p.Questions, store.Asking{AddressRow: store.AddressRow{Ordinal: a, Mailbox: fmt.Sprintf("a%d@fernhollow.example", a)}})
	}
	return p
}

func add(t *testing.T, s *store.Store, parcels ...store.Parcel) {
	t.Helper()
	if err := s.AddParcels(t.Context(), parcels); err != nil {
		t.Fatal(err)
	}
}

// record records a claimed parcel as a lane does.
func record(ctx context.Context, s *store.Store, p *store.Parcel, lane int) (done bool, err error) {
	err = s.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if done, err = s.MarkDone(ctx, p.ID, lane, pack.ParcelRecord{}); err != nil || !done {
			return err
		}
		var results []store.Concluded
		for _, q := range p.Questions {
			results = append(results, store.Concluded{Address: q.Ordinal, Verdict: finding.ConcludeFrom(finding.MailboxAccepted, nil)})
		}
		return s.AddResults(ctx, p.RunID, results)
	})
	if err == nil {
		_, err = s.Finish(ctx, p.RunID)
	}
	return done, err
}

func TestProcessesThatStartAtOnceMigrateOnce(t *testing.T) {
	dsn := testkit.EmptyDatabase(t)
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			s, err := store.Open(t.Context(), dsn)
			if err == nil {
				defer s.Close()
				err = s.Migrate(t.Context())
			}
			if err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
}

// TestHalfAMigration breaks migrating off again and again, a little later each time: the next
// try goes on where it was, to the same schema.
func TestHalfAMigration(t *testing.T) {
	s, err := store.Open(t.Context(), testkit.EmptyDatabase(t))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	broken, partly := 0, false
	for wait := 10 * time.Millisecond; ; wait += 15 * time.Millisecond {
		ctx, cancel := context.WithTimeout(t.Context(), wait)
		err := s.Migrate(ctx)
		cancel()
		if err == nil {
			break
		}
		broken++
		at, err := s.Schema(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		partly = partly || at > 0 && at < migrate.Known()
	}
	if broken == 0 || !partly {
		t.Errorf("broken off %d times, in the midst: %v", broken, partly)
	}
	if err := s.CheckSchema(t.Context()); err != nil {
		t.Error(err)
	}
	s.FingerprintBy(keyedWith("one"))
	concludeSome(t, s, newRun(t, s, workspace(t, s, "ours"), 3), answered(1, finding.MailboxAccepted, "250 ok"))
}

// TestParcelsOfOneRunRecordedAtOnce claims and records many parcels side by
// side: each is recorded once, and the last one ends the run.
func TestParcelsOfOneRunRecordedAtOnce(t *testing.T) {
	s := open(t)
	run := newRun(t, s, workspace(t, s, "ours"), 60)
	for i := range int32(20) {
		add(t, s, parcel(run, i, time.Now(), 3*i+1, 3*i+2, 3*i+3))
	}
	var wg sync.WaitGroup
	for lane := range 6 {
		wg.Go(func() {
			for {
				p, err := s.Claim(t.Context(), "op.example", lane)
				if err != nil {
					t.Error(err)
				}
				if p == nil || err != nil {
					return
				}
				if done, err := record(t.Context(), s, p, lane); err != nil || !done {
					t.Errorf("parcel %d: %v, %v", p.ID, done, err)
				}
			}
		})
	}
	wg.Wait()
	after, err := s.RunByID(t.Context(), run.ID)
	if err != nil || after.State != store.Finished || after.FinishedAt == nil {
		t.Errorf("the run is %+v, %v", after, err)
	}
	found, err := s.Progress(t.Context(), run.ID)
	p := found[run.ID]
	if err != nil || len(p.Verdicts) != 1 || p.LastMinute != 60 || p.Ready != 0 {
		t.Errorf("progress: %+v, %v", p, err)
	}
	page, err := s.Results(t.Context(), run, store.ResultFilter{After: 50, Search: "a5_@", Limit: 100})
	if err != nil || len(page) != 0 {
		t.Errorf("a search for an underscore found %d, %v", len(page), err)
	}
	if page, err = s.Results(t.Context(), run, store.ResultFilter{After: 50, Search: "A5", Limit: 100}); err != nil || len(page) != 9 {
		t.Errorf("a search found %d, %v", len(page), err)
	}
}

func TestRunsTakeTurns(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "ours")
	large, small := newRun(t, s, w, 10), newRun(t, s, w, 10)
	lined(t, s, large, 3)
	lined(t, s, small, 1)
	var order []int64
	for {
		p, err := s.Claim(t.Context(), "op.example", 0)
		if err != nil {
			t.Fatal(err)
		}
		if p == nil {
			break
		}
		order = append(order, p.RunID)
	}
	if fmt.Sprint(order) != fmt.Sprint([]int64{large.ID, small.ID, large.ID, large.ID}) {
		t.Errorf("the runs were served in the order %v", order)
	}
}

func TestWhatAWorkerLeavesBehind(t *testing.T) {
	s := open(t)
	run := newRun(t, s, workspace(t, s, "ours"), 4)
	add(t, s, parcel(run, 1, time.Now(), 1, 2), parcel(run, 1, time.Now().Add(time.Hour), 3))
	lost, err := s.Claim(t.Context(), "op.example", 0)
	if err != nil || lost == nil {
		t.Fatal(err)
	}
	if p, _ := s.Claim(t.Context(), "op.example", 1); p != nil {
		t.Error("a parcel was claimed twice, or before its time")
	}
	if n, err := s.GiveBack(t.Context(), "op.example", 1); n != 0 || err != nil {
		t.Errorf("another lane gave back %d, %v", n, err)
	}
	if n, err := s.GiveBack(t.Context(), "op.example", 0); n != 1 || err != nil {
		t.Errorf("given back: %d, %v", n, err)
	}
	again, err := s.Claim(t.Context(), "op.example", 0)
	if err != nil || again == nil || again.ID != lost.ID {
		t.Fatalf("%+v, %v", again, err)
	}
	if done, err := record(t.Context(), s, again, 0); !done || err != nil {
		t.Fatal(done, err)
	}
	if done, err := record(t.Context(), s, lost, 0); done || err != nil {
		t.Errorf("the lost worker's late record was taken: %v, %v", done, err)
	}
	found, err := s.Progress(t.Context(), run.ID)
	p := found[run.ID]
	if err != nil || p.Postponed != 1 || p.NextRound == nil || p.Ready != 0 {
		t.Errorf("progress: %+v, %v", p, err)
	}
}

func TestAStoppedRunTakesNoMoreResults(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "ours")
	run := newRun(t, s, w, 4)
	add(t, s, parcel(run, 1, time.Now(), 1), parcel(run, 2, time.Now(), 2))
	p, err := s.Claim(t.Context(), "op.example", 0)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.StopRun(t.Context(), w, run.ID); err != nil {
		t.Fatal(err)
	}
	if next, _ := s.Claim(t.Context(), "op.example", 1); next != nil {
		t.Error("a parcel of a stopped run was claimed")
	}
	if n, err := s.GiveBack(t.Context(), "op.example", 0); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	if next, _ := s.Claim(t.Context(), "op.example", 0); next != nil {
		t.Errorf("parcel %d came back to life", p.ID)
	}
	other := workspace(t, s, "theirs")
	for name, err := range map[string]error{
		"stop":   s.StopRun(t.Context(), other, run.ID),
		"delete": s.DeleteList(t.Context(), other, run.ListID),
	} {
		if !errors.Is(err, store.ErrNotFound) {
			t.Errorf("%s by another workspace: %v", name, err)
		}
	}
	if err := s.DeleteList(t.Context(), w, run.ListID); err != nil {
		t.Error(err)
	}
	if _, err := s.RunByID(t.Context(), run.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the run outlived its list: %v", err)
	}
}

// TestUnreachableSessions: an address of sessions that leads nowhere is told by the setting it stands in.
func TestUnreachableSessions(t *testing.T) {
	_, err := store.OpenPooled(t.Context(), open(t).Pool().Config().ConnString(), "postgres://nobody@127.0.0.1:1/none")
	if err == nil || !strings.Contains(err.Error(), "-session-dsn (VARNET_SESSION_DSN)") {
		t.Errorf("%v", err)
	}
}

// TestRetention finds the lists whose time has come, and no other.
func TestRetention(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	old, running, kept, young, verified := newRun(t, s, w, 3), newRun(t, s, w, 3), newRun(t, s, w, 3), newRun(t, s, w, 3), newRun(t, s, w, 3)
	exec := func(sql string, args ...any) {
		t.Helper()
		if _, err := s.Pool().Exec(ctx, sql, args...); err != nil {
			t.Fatal(err)
		}
	}
	exec("UPDATE list SET created_at = now() - interval '91 days' WHERE id <> $1", young.ListID)
	exec("UPDATE run SET state = 'finished', finished_at = now() - interval '91 days' WHERE id <> $1", running.ID)
	exec("UPDATE run SET finished_at = now() WHERE id = $1", verified.ID)
	forever := 0
	if err := s.ChangeList(ctx, w, kept.ListID, store.ListChange{KeepDays: &forever}); err != nil {
		t.Fatal(err)
	}
	due, err := s.DueLists(ctx, 10)
	if err != nil || len(due) != 1 || due[0].ID != old.ListID {
		t.Fatalf("%v: %+v", err, due)
	}
	if err := s.SetKeepDays(ctx, w, 0); err != nil {
		t.Fatal(err)
	}
	if due, err := s.DueLists(ctx, 10); err != nil || len(due) != 0 {
		t.Errorf("with lists kept until they are deleted: %v: %+v", err, due)
	}
	exec("UPDATE installation SET max_keep_days = 60")
	if due, err := s.DueLists(ctx, 10); err != nil || len(due) != 2 || due[0].ID != old.ListID || due[1].ID != kept.ListID {
		t.Errorf("with none kept longer than the installation allows: %v: %+v", err, due)
	}
	exec("UPDATE installation SET max_keep_days = NULL")
	if err := s.DeleteList(ctx, w, old.ListID); err != nil {
		t.Fatal(err)
	}
	sweep(t, s)
	for _, table := range []string{"row_block", "list_domain", "list_part"} {
		var n int
		if err := s.Pool().QueryRow(ctx, "SELECT count(*) FROM "+table+" WHERE list_id = $1", old.ListID).Scan(&n); err != nil || n != 0 {
			t.Errorf("%d records are left in %s: %v", n, table, err)
		}
	}
}

// TestLostWorker removes a worker that is silent, and of no other.
func TestLostWorker(t *testing.T) {
	s, ctx := open(t), t.Context()
	for _, id := range []string{"a", "b"} {
		if _, err := s.SeeWorker(ctx, store.Worker{ID: id, Name: id, StartedAt: time.Now()}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.Pool().Exec(ctx, "UPDATE worker SET seen_at = now() - interval '20 seconds' WHERE id = 'a'"); err != nil {
		t.Fatal(err)
	}
	if lost, err := s.LostWorkers(ctx, 12*time.Second); err != nil || len(lost) != 1 || lost[0] != "a" {
		t.Errorf("%v: %q", err, lost)
	}
	if err := s.DrainWorker(ctx, "b"); err != nil {
		t.Fatal(err)
	}
	if draining, err := s.SeeWorker(ctx, store.Worker{ID: "b", StartedAt: time.Now()}); err != nil || !draining {
		t.Errorf("%v: draining %v", err, draining)
	}
}

// TestClockJumps: where the clock is set back nothing waits longer than it was to; after a jump
// nobody is taken for lost before everybody had time to send a heartbeat.
func TestClockJumps(t *testing.T) {
	s, ctx := open(t), t.Context()
	const silence = 12 * time.Second
	// jump is as if the clock had been set, by so much, since the last look.
	jump := func(by time.Duration) {
		t.Helper()
		if _, err := s.Pool().Exec(ctx, "UPDATE clock SET at = now() - $1::interval", by); err != nil {
			t.Fatal(err)
		}
	}
	look := func(wantBack time.Duration, wantSteady bool) {
		t.Helper()
		back, steady, err := s.LookAtClock(ctx, silence)
		if err != nil || back.Round(time.Minute) != wantBack || steady != wantSteady {
			t.Fatalf("%v: back by %v, steady %v", err, back, steady)
		}
	}
	if _, err := s.Pool().Exec(ctx, "UPDATE clock SET steady = now() - interval '1 hour'"); err != nil {
		t.Fatal(err)
	}
	look(0, true)
	jump(time.Hour)
	look(0, false)
	jump(time.Second)
	look(0, false)
	if _, err := s.Pool().Exec(ctx, `UPDATE clock SET steady = now() - interval '13 seconds'`); err != nil {
		t.Fatal(err)
	}
	look(0, true)

	// What was set two hours and a minute off when the clock stood two hours later.
	if _, err := s.Pool().Exec(ctx, `WITH o AS (INSERT INTO operator (name) VALUES ('hosts.example'))
		INSERT INTO operator_route (operator, route_id, pace, blocked_until) VALUES ('hosts.example', 0, jsonb_build_object('lanes', 3, 'restUntil', now() + interval '121 minutes'), now() + interval '121 minutes');`); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Pool().Exec(ctx, `INSERT INTO river_job (state, kind, args, max_attempts, priority, queue, scheduled_at) VALUES ('scheduled', 'wake', '{}', 1, 1, 'default', now() + interval '121 minutes')`); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SeeWorker(ctx, store.Worker{ID: "a", StartedAt: time.Now()}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Pool().Exec(ctx, "UPDATE worker SET seen_at = now() + interval '121 minutes'"); err != nil {
		t.Fatal(err)
	}
	jump(-2 * time.Hour)
	look(2*time.Hour, false)
	var rest, blocked, job, seen time.Duration
	if err := s.Pool().QueryRow(ctx, `SELECT (pace->>'restUntil')::timestamptz - now(), blocked_until - now(), (SELECT max(scheduled_at) - now() FROM river_job), (SELECT seen_at - now() FROM worker)
		FROM operator_route`).Scan(&rest, &blocked, &job, &seen); err != nil {
		t.Fatal(err)
	}
	for name, left := range map[string]time.Duration{"rest": rest, "refusal": blocked, "job": job, "sign of life": seen} {
		if left < 50*time.Second || left > 65*time.Second {
			t.Errorf("the %s is %v off, not a minute", name, left)
		}
	}
}

func TestFacts(t *testing.T) {
	s, ctx := open(t), t.Context()
	now := time.Now()
	for range 3 {
		for op, seen := range map[string]pace.Seen{"op.example": {Sessions: 2}, "rude.example": {Throttled: 1}} {
			if _, err := s.LearnPace(ctx, op, 7, seen, now, pace.Bounds{Cap: pace.DefaultCap}); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := s.OwnLanes(ctx, []string{"op.example", "new.example"}); err != nil {
		t.Fatal(err)
	}
	o, err := s.Operators(ctx, []string{"op.example", "rude.example", "new.example", "unknown.example"})
	if err != nil || len(o) != 3 || !o["op.example"].Own || o["op.example"].By[7].Pace.Lanes != 4 || !o["rude.example"].By[7].Pace.Resting(now) || len(o["new.example"].By) != 0 {
		t.Errorf("operators: %+v, %v", o, err)
	}
	one := probe.Acceptance{Domain: "a.example", Exchanger: "mx1.a.example", Accepts: probe.AcceptsAny, At: now.UTC().Truncate(time.Second), MadeUp: []probe.MadeUp{{Mailbox: "x@a.example", Reply: "250 ok"}}}
	later, other, elsewhere := one, one, one
	later.Accepts, later.At = probe.AcceptsKnown, one.At.Add(time.Second)
	other.Exchanger, elsewhere.Route = "mx2.a.example", 7
	for _, some := range [][]probe.Acceptance{{one, other, elsewhere}, {later, one}, nil} {
		if err := s.SaveAcceptances(ctx, some); err != nil {
			t.Fatal(err)
		}
	}
	if known, err := s.Acceptances(ctx, "a.example"); err != nil || len(known) != 3 || known[0].Accepts != probe.AcceptsKnown || len(known[1].MadeUp) != 1 {
		t.Errorf("acceptances: %+v, %v", known, err)
	}
}

func TestCatalogueEntries(t *testing.T) {
	s, ctx := open(t), t.Context()
	ours, theirs := workspace(t, s, "ours"), workspace(t, s, "theirs")
	entries := []catalogue.Entry{{Kind: catalogue.Disposable, Name: "a.example"}, {Kind: catalogue.Roles, Name: "info", Except: true}, {Kind: catalogue.Disposable, Name: "a.example"}}
	for range 2 {
		if err := s.SaveCatalogueEntries(ctx, ours, entries); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := s.CatalogueEntries(ctx, ours, catalogue.Entry{}, 10); err != nil || len(got) != 2 || !got[1].Except {
		t.Errorf("ours: %v, %v", got, err)
	}
	if got, err := s.CatalogueEntries(ctx, theirs, catalogue.Entry{}, 10); err != nil || len(got) != 0 {
		t.Errorf("theirs: %v, %v", got, err)
	}
	if err := s.DeleteCatalogueEntry(ctx, theirs, catalogue.Disposable, "a.example"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("deleted by another workspace: %v", err)
	}
}

// TestKeyTerms: a key opens its workspace while it lasts and from its networks; its use is
// written down; one that is replaced goes on for the overlap, with the same terms.
func TestKeyTerms(t *testing.T) {
	s, ctx := open(t), t.Context()
	ours := workspace(t, s, "ours")
	past, soon := time.Now().Add(-time.Second), time.Now().Add(time.Hour)
	near := []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("2001:db8::/32")}
	for key, terms := range map[string]store.KeyTerms{"ended": {ExpiresAt: &past}, "lasting": {ExpiresAt: &soon}, "near": {Networks: near}} {
		terms.Name, terms.Scopes = key, []string{"read"}
		if _, err := s.NewKey(ctx, ours, key, terms); err != nil {
			t.Fatal(err)
		}
	}
	opens := func(key, from string) bool {
		t.Helper()
		w, err := s.OpenedBy(ctx, key, netip.MustParseAddr(from))
		if err != nil && !errors.Is(err, store.ErrUnknownKey) || err == nil && !slices.Equal(w.Scopes, []string{"read"}) {
			t.Errorf("%s: %+v, %v", key, w, err)
		}
		return err == nil
	}
	if opens("ended", "127.0.0.1") || !opens("lasting", "127.0.0.1") || opens("near", "127.0.0.1") || !opens("near", "192.0.2.77") || !opens("near", "2001:db8::1") {
		t.Error("a key opens when it should not, or the other way round")
	}
	kept, err := s.Keys(ctx, 1)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range kept {
		if used := k.Name != "ended"; (k.LastUsedAt != nil) != used || used && !k.LastUsedFrom.IsValid() {
			t.Errorf("%s was used: %v from %v", k.Name, k.LastUsedAt, k.LastUsedFrom)
		}
		next, err := s.RotateKey(ctx, 1, k.ID, "next "+k.Name, past)
		if err != nil || next.Name != k.Name || !slices.Equal(next.Scopes, k.Scopes) || !slices.Equal(next.Networks, k.Networks) || *next.MadeBy != k.ID {
			t.Errorf("%+v was replaced by %+v, %v", k, next, err)
		}
	}
	if opens("lasting", "127.0.0.1") || !opens("next lasting", "127.0.0.1") || !opens("next near", "192.0.2.1") || opens("next near", "127.0.0.1") {
		t.Error("a key that was replaced opens after its overlap, or the new one does not")
	}
	if _, err := s.RotateKey(ctx, 2, kept[0].ID, "another workspace's", soon); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another workspace replaces it: %v", err)
	}
}

func TestKeysAndSessions(t *testing.T) {
	s, ctx := open(t), t.Context()
	ours, key := workspace(t, s, "ours"), rand.Text()
	made, err := s.NewKey(ctx, ours, key, store.KeyTerms{Name: "laptop", Scopes: []string{"read", "check"}})
	if err != nil || made.LastUsedAt != nil || made.ExpiresAt != nil {
		t.Fatalf("%+v, %v", made, err)
	}
	if o, err := s.OpenedBy(ctx, key, here); err != nil || o.WorkspaceID != ours || o.KeyID != made.ID {
		t.Fatalf("%+v, %v", o, err)
	}
	p, err := s.NewPerson(ctx, store.Person{Address: "Ada.Moss@fernhollow.example", Canonical: "ada.moss@fernhollow.example", Name: "Ada Moss"})
	if err != nil {
		t.Fatal(err)
	}
	session, err := s.NewSession(ctx, store.Session{PersonID: p.ID, Place: here})
	if err != nil {
		t.Fatal(err)
	}
	if in, err := s.SessionOf(ctx, session, here); err != nil || in.PersonID != p.ID || in.WorkspaceID != nil {
		t.Errorf("%+v, %v", in, err)
	}
	if err := s.EndSession(ctx, session); err != nil {
		t.Fatal(err)
	}
	for name, err := range map[string]error{
		"an ended session":    second(s.SessionOf(ctx, session, here)),
		"a session as a key":  second(s.OpenedBy(ctx, session, here)),
		"a key with a change": second(s.OpenedBy(ctx, key+"x", here)),
		"no key":              second(s.OpenedBy(ctx, "", here)),
	} {
		if !errors.Is(err, store.ErrUnknownKey) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func second[T any](_ T, err error) error { return err }
