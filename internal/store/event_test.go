package store_test

import (
	"errors"
	"slices"
	"testing"
	"time"

	"varnet/core/event"
	"varnet/internal/store"
)

// told records an event and tells it.
func told(t *testing.T, s *store.Store, e event.Event) int64 {
	t.Helper()
	seq, err := s.AddEvent(t.Context(), e)
	if err == nil {
		seq, err = s.TellEvent(t.Context(), seq, "Something happened.")
	}
	if err != nil {
		t.Fatal(err)
	}
	return seq
}

// TestWhoSees: events are seen by those they are for alone, and what was read is read by one
// person.
func TestWhoSees(t *testing.T) {
	s, ctx := open(t), t.Context()
	ada, bea := person(t, s, "ada"), person(t, s, "bea")
	var spaces [2]int64
	for n, name := range []string{"the library", "the neighbours"} {
		w, err := s.NewWorkspace(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		spaces[n] = w.ID
	}
	ours, theirs := spaces[0], spaces[1]
	run := func(workspace, id int64) event.Event {
		return event.Event{Code: event.RunFinished, Workspace: workspace, Data: event.Data{RunID: id, List: "Members"}}
	}
	first := told(t, s, run(ours, 1))
	again := told(t, s, run(ours, 1))
	other := told(t, s, run(ours, 2))
	joined := told(t, s, event.Event{Code: event.MemberJoined, Workspace: ours, Data: event.Data{Person: "Cai"}})
	device := told(t, s, event.Event{Code: event.DeviceNew, Person: ada.ID})
	route := told(t, s, event.Event{Code: event.OutboundFailed, Data: event.Data{Route: "direct"}})
	quiet := run(ours, 3)
	quiet.Quiet = true
	hidden := told(t, s, quiet)
	elsewhere := told(t, s, run(theirs, 4))
	if _, err := s.AddEvent(ctx, run(ours, 5)); err != nil { // which is not told yet
		t.Fatal(err)
	}
	everybody, managers, operators := []event.Code{event.RunFinished}, []event.Code{event.RunFinished, event.MemberJoined}, []event.Code{event.OutboundFailed}
	for name, x := range map[string]struct {
		view store.View
		want []int64
	}{
		"a reader":                {store.View{Workspace: ours, Person: bea.ID, Codes: everybody, Operators: []event.Code{}}, []int64{first, again, other, hidden}},
		"the owner of everything": {store.View{Workspace: ours, Person: ada.ID, Codes: managers, Operators: operators}, []int64{first, again, other, joined, device, route, hidden}},
		"a program":               {store.View{Workspace: ours, Codes: managers, Operators: []event.Code{}}, []int64{first, again, other, joined, hidden}},
		"the neighbours":          {store.View{Workspace: theirs, Person: bea.ID, Codes: managers, Operators: []event.Code{}}, []int64{elsewhere}},
	} {
		found, err := s.Events(ctx, x.view, 0, 50)
		var got []int64
		for _, e := range found {
			got = append(got, e.Seq)
		}
		if err != nil || !slices.Equal(got, x.want) {
			t.Errorf("%s sees %v, not %v: %v", name, got, x.want, err)
		}
	}
	view := store.View{Workspace: ours, Person: ada.ID, Codes: managers, Operators: operators}
	unread := func(v store.View) map[int64]int64 {
		t.Helper()
		groups, err := s.NoticeGroups(ctx, v, 50)
		if err != nil {
			t.Fatal(err)
		}
		out := map[int64]int64{}
		for _, g := range groups {
			out[g.Seq] = g.Unread
			if g.Seq == again && g.Count != 2 {
				t.Errorf("the group of %d has %d", g.Seq, g.Count)
			}
		}
		return out
	}
	holds := func(when string, v store.View, want map[int64]int64) {
		t.Helper()
		if got := unread(v); len(got) != len(want) || func() bool {
			for seq, n := range want {
				if got[seq] != n {
					return true
				}
			}
			return false
		}() {
			t.Errorf("%s: unread %v, not %v", when, got, want)
		}
	}
	holds("at first", view, map[int64]int64{again: 2, other: 1, joined: 1, device: 1, route: 1})
	if err := s.SeeNotices(ctx, view, again); err != nil {
		t.Fatal(err)
	}
	holds("one group read", view, map[int64]int64{again: 0, other: 1, joined: 1, device: 1, route: 1})
	if err := s.SeeNotices(ctx, store.View{Workspace: theirs, Person: bea.ID, Codes: managers, Operators: []event.Code{}}, other); err != nil {
		t.Fatal(err) // which is nothing to them
	}
	reader := store.View{Workspace: ours, Person: bea.ID, Codes: everybody, Operators: []event.Code{}}
	holds("somebody else", reader, map[int64]int64{again: 2, other: 1})
	if err := s.SeeAllNotices(ctx, view, joined); err != nil {
		t.Fatal(err)
	}
	holds("all up to one", view, map[int64]int64{again: 0, other: 0, joined: 0, device: 1, route: 1})
	if _, err := s.TellEvent(ctx, first, "Again."); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("told twice: %v", err)
	}
}

// TestWhatIsToldLaterComesLater: whoever reads on from a number misses no event, also where the one that happened first
// is told last; about one thing they are told in order.
func TestWhatIsToldLaterComesLater(t *testing.T) {
	s, ctx := open(t), t.Context()
	w, err := s.NewWorkspace(ctx, "the library")
	if err != nil {
		t.Fatal(err)
	}
	var seqs []int64
	for _, run := range []int64{1, 2, 1} {
		seq, err := s.AddEvent(ctx, event.Event{Code: event.RunFinished, Workspace: w.ID, Data: event.Data{RunID: run}})
		if err != nil {
			t.Fatal(err)
		}
		seqs = append(seqs, seq)
	}
	for n, want := range []bool{false, false, true} {
		e, err := s.UntoldEvent(ctx, seqs[n])
		if err != nil {
			t.Fatal(err)
		}
		if waits, err := s.EarlierUntold(ctx, e); err != nil || waits != want {
			t.Errorf("event %d about %s waits: %v, %v", n, e.Thing, waits, err)
		}
	}
	var after int64
	var read []string
	for _, n := range []int{1, 0, 2} {
		seq, err := s.TellEvent(ctx, seqs[n], "It is finished.")
		if err != nil || n == 1 && seq != seqs[n] {
			t.Fatalf("event %d is told as %d, %v", seqs[n], seq, err)
		}
		events, err := s.Events(ctx, store.View{Workspace: w.ID, Codes: []event.Code{event.RunFinished}}, after, 10)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range events {
			after, read = e.Seq, append(read, e.Thing)
		}
	}
	if want := []string{"runs/2", "runs/1", "runs/1"}; !slices.Equal(read, want) {
		t.Errorf("read are %v, not %v", read, want)
	}
}

// TestDailyLetters: what waits is taken once, of one person at a time, and only what is due.
func TestDailyLetters(t *testing.T) {
	s, ctx, now := open(t), t.Context(), time.Now()
	ada, bea := person(t, s, "ada"), person(t, s, "bea")
	w, err := s.NewWorkspace(ctx, "the library")
	if err != nil {
		t.Fatal(err)
	}
	var seqs []int64
	for n := range 3 {
		seqs = append(seqs, told(t, s, event.Event{Code: event.RunFinished, Workspace: w.ID, Data: event.Data{RunID: int64(n + 1)}}))
	}
	for _, x := range []struct {
		person, seq int64
		due         time.Time
	}{{ada.ID, seqs[0], now.Add(-time.Hour)}, {ada.ID, seqs[1], now.Add(-time.Minute)}, {ada.ID, seqs[2], now.Add(time.Hour)}, {bea.ID, seqs[2], now.Add(-2 * time.Hour)}, {ada.ID, seqs[0], now}} {
		if err := s.AddDaily(ctx, x.person, x.seq, x.due); err != nil {
			t.Fatal(err)
		}
	}
	for _, want := range []struct {
		person int64
		seqs   []int64
	}{{bea.ID, seqs[2:]}, {ada.ID, seqs[:2]}} {
		if who, got, err := s.TakeDaily(ctx, now); err != nil || who != want.person || !slices.Equal(got, want.seqs) {
			t.Errorf("%d has %v: %v; want %d with %v", who, got, err, want.person, want.seqs)
		}
	}
	if _, _, err := s.TakeDaily(ctx, now); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("what is not due yet: %v", err)
	}
}

// TestEnding: lists and keys that end soon are told once.
func TestEnding(t *testing.T) {
	s, ctx := open(t), t.Context()
	w, err := s.NewWorkspace(ctx, "the library")
	if err != nil {
		t.Fatal(err)
	}
	soon, late := time.Now().Add(3*24*time.Hour), time.Now().Add(30*24*time.Hour)
	for name, ends := range map[string]*time.Time{"soon": &soon, "late": &late, "never": nil} {
		if _, err := s.NewKey(ctx, w.ID, "varnet_"+name, store.KeyTerms{Name: name, Scopes: []string{"read"}, ExpiresAt: ends}); err != nil {
			t.Fatal(err)
		}
	}
	week := 7 * 24 * time.Hour
	if keys, err := s.ExpiringKeys(ctx, week); err != nil || len(keys) != 1 || keys[0].Name != "soon" {
		t.Errorf("%+v, %v", keys, err)
	}
	if keys, err := s.ExpiringKeys(ctx, week); err != nil || len(keys) != 0 {
		t.Errorf("told twice: %+v, %v", keys, err)
	}
	if _, err := s.Pool().Exec(ctx, `INSERT INTO list (workspace_id, name, file_name, format, dialect, columns, address_columns, kinds, header, created_at, keep_days)
		SELECT $1, n, n, 'text', '{}', '{}', '{0}', '[]', '', now() - d * interval '1 day', 30 FROM (VALUES ('due', 31), ('ending', 25), ('fresh', 3)) v(n, d)`, w.ID); err != nil {
		t.Fatal(err)
	}
	ending, err := s.EndingLists(ctx, week, 10)
	if err != nil || len(ending) != 2 || !slices.ContainsFunc(ending, func(l store.DueList) bool {
		return l.Name == "ending" && time.Until(l.EndsAt) > 4*24*time.Hour && time.Until(l.EndsAt) < 6*24*time.Hour
	}) {
		t.Errorf("%+v, %v", ending, err)
	}
	if due, err := s.DueLists(ctx, 10); err != nil || len(due) != 1 || due[0].Name != "due" {
		t.Errorf("%+v, %v", due, err)
	}
}

// TestDeletedWhileCalled: a webhook is deleted while attempts to call it are recorded.
func TestDeletedWhileCalled(t *testing.T) {
	s, ctx := open(t), t.Context()
	w, err := s.NewWorkspace(ctx, "the library")
	if err != nil {
		t.Fatal(err)
	}
	seq := told(t, s, event.Event{Code: event.RunFinished, Workspace: w.ID, Data: event.Data{RunID: 1, List: "Members"}})
	for range 50 {
		hook, err := s.NewWebhook(ctx, w.ID, "https://hooks.fernhollow.example/", []event.Code{event.RunFinished}, []byte("sealed"))
		if err == nil {
			err = s.AddDelivery(ctx, hook.ID, store.Event{Seq: seq, Thing: "run 1"})
		}
		if err != nil {
			t.Fatal(err)
		}
		d, err := s.WaitingDelivery(ctx, hook.ID, "run 1")
		if err != nil {
			t.Fatal(err)
		}
		recorded := make(chan error)
		go func() {
			recorded <- s.AddAttempt(ctx, d, store.Attempt{Number: 1, At: time.Now()}, store.DeliveryDelivered, nil)
		}()
		if err := s.DeleteWebhook(ctx, w.ID, hook.ID); err != nil {
			t.Errorf("deleted: %v", err)
		}
		if err := <-recorded; err != nil && !errors.Is(err, store.ErrNotFound) {
			t.Errorf("recorded: %v", err)
		}
	}
}
