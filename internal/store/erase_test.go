package store_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/erase"
	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/probe"
	"varnet/core/sheet"
	"varnet/internal/store"
)

// people are rows with two address columns; the addresses of a row are a and b, of which the first
// place in the list is told by where.
func people(t *testing.T, s *store.Store, workspace int64, rows [][2]string) store.List {
	t.Helper()
	l := store.List{WorkspaceID: workspace, Name: "guests", Columns: []string{"name", "a", "b"}, AddressColumns: []int{1, 2}, Kinds: []sheet.Kind{}, Header: []byte("name,a,b\n"),
		Dialect: sheet.Dialect{Delimiter: ",", Quote: `"`, Encoding: sheet.UTF8, Header: true}}
	var cells []*store.Row
	first, members := map[string]int32{}, map[string]*store.Members{}
	for n, r := range rows {
		var of []*store.Row
		for slot, typed := range r {
			c := &store.Row{Ordinal: int32(2*n + slot + 1), Line: int64(n + 2), Typed: typed}
			if slot == 0 {
				c.Raw = []byte("somebody," + r[0] + "," + r[1] + "\n")
			}
			if typed != "" && first[typed] == 0 {
				first[typed] = c.Ordinal
				c.Mailbox = typed
				c.Domain = typed[strings.IndexByte(typed, '@')+1:]
				if members[c.Domain] == nil {
					members[c.Domain] = &store.Members{}
				}
				members[c.Domain].Add(c.Ordinal, typed[:strings.IndexByte(typed, '@')], nil)
			}
			c.Address = first[typed]
			cells, of = append(cells, c), append(of, c)
		}
		l.Rows++
		l.Count(of, 1)
	}
	err := s.CreateList(t.Context(), &l)
	at := 0
	if err == nil {
		err = s.CopyRows(t.Context(), l.ID, func() (*store.Row, error) {
			if at++; at > len(cells) {
				return nil, nil
			}
			return cells[at-1], nil
		})
	}
	if err == nil {
		err = complete(t, s, &l, members)
	}
	if err != nil {
		t.Fatal(err)
	}
	if l, err = s.List(t.Context(), workspace, l.ID); err != nil {
		t.Fatal(err)
	}
	return l
}

// TestEraseOfList erases an address whose row has a second one that others have, too, and whose
// results are among those of others; while a lane has it in hand, nothing is done.
func TestEraseOfList(t *testing.T) {
	s, ctx := open(t), t.Context()
	team, err := s.NewWorkspace(ctx, "the library")
	if err != nil {
		t.Fatal(err)
	}
	rows := [][2]string{{"ann@one.example", ""}, {"jane@one.example", "firs@two.example"}, {"otto@one.example", "firs@two.example"}, {"", "jane@one.example"}, {"rosa@three.example", "jane.b@four.example"}}
	for range 300 { // further blocks
		rows = append(rows, [2]string{"ann@one.example", ""})
	}
	rows = append(rows, [2]string{"jane@one.example", "jane.private@four.example"})
	w := team.ID
	l := people(t, s, w, rows)
	run := store.Run{WorkspaceID: w, ListID: l.ID, Depth: store.DepthMailbox, State: store.Running, Policy: policy.Careful()}
	if err := s.CreateRun(ctx, &run); err != nil {
		t.Fatal(err)
	}
	if err := s.SavePlan(ctx, run.ID, store.Plan{Done: true}); err != nil {
		t.Fatal(err)
	}
	verdict := finding.ConcludeFrom(finding.MailboxAbsent, nil)
	said := func(o int32, words string) store.Concluded {
		return store.Concluded{Address: o, Verdict: verdict, Asked: []probe.Asked{{Parcel: 1, At: time.Unix(1_790_000_000, 0), Reply: words}}}
	}
	jane, firs, private := int32(3), int32(4), int32(2*(len(rows)-1)+2)
	if err := s.AddResults(ctx, run.ID, []store.Concluded{said(1, "ann"), said(jane, "550 jane"), said(firs, "firs")}); err != nil {
		t.Fatal(err)
	}
	if err := s.AddResults(ctx, run.ID, []store.Concluded{said(private, "private alone")}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SetOverrides(ctx, l.ID, []int32{1, jane}, policy.Keep); err != nil {
		t.Fatal(err)
	}
	addresses, err := s.AddressesAt(ctx, l.ID, []int32{1, jane, firs})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.AddParcels(ctx, []store.Parcel{{RunID: run.ID, LaneKey: "one.example", Questions: store.Questions(addresses), NotBefore: time.Now().Add(-time.Minute), Again: true}}); err != nil {
		t.Fatal(err)
	}
	e := erase.Eraser{Gone: func(id string) bool { return id == "jane@one.example" }}
	x, err := s.ToErase(ctx, l, e)
	if err != nil {
		t.Fatal(err)
	}
	if want := []int32{2, 4, int32(len(rows))}; !slices.Equal(x.Rows(), want) || !slices.Equal(x.Addresses(), []int32{jane, private}) || !slices.Equal(x.Of(), []int32{jane}) {
		t.Errorf("found %v, %v, %v", x.Rows(), x.Addresses(), x.Of())
	}
	claimed, err := s.Claim(ctx, "one.example", 1)
	if err != nil || claimed == nil {
		t.Fatal(claimed, err)
	}
	now := func() (results int64, err error) {
		err = s.InTx(ctx, func(s *store.Store, _ pgx.Tx) error { _, results, err = s.Erase(ctx, l.ID, e); return err })
		return results, err
	}
	if _, err := now(); !errors.Is(err, store.ErrInHand) {
		t.Errorf("while a lane asks: %v", err)
	}
	// The rest of the workspace does not wait for the list: what is still to be asked stays whole.
	err = s.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		_, err := s.EraseElsewhere(ctx, w, e, store.Spellings{"one.example"}, []string{"jane@one.example"})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.GiveBack(ctx, "one.example", 1); err != nil {
		t.Fatal(err)
	}
	again, err := s.Claim(ctx, "one.example", 1)
	if err != nil || !slices.EqualFunc(again.Questions, claimed.Questions, func(a, b store.Asking) bool { return a.Mailbox == b.Mailbox }) {
		t.Fatalf("given back, the parcel asks about %+v, %v", again, err)
	}
	if _, err := s.GiveBack(ctx, "one.example", 1); err != nil {
		t.Fatal(err)
	}
	if results, err := now(); err != nil || results != 2 {
		t.Fatalf("%d results, %v", results, err)
	}
	if claimed, err = s.Claim(ctx, "one.example", 1); err != nil || len(claimed.Questions) != 2 {
		t.Errorf("a parcel asks about %+v, %v", claimed, err)
	}
	erased(t, s, run, l, jane, firs, private)
}

// erased looks at what is left of the list.
func erased(t *testing.T, s *store.Store, run store.Run, was store.List, jane, firs, private int32) {
	t.Helper()
	ctx := t.Context()
	l, err := s.List(ctx, was.WorkspaceID, was.ID)
	if err != nil {
		t.Fatal(err)
	}
	var counts store.ListCounts
	raw := map[int32]string{}
	err = s.EachRow(ctx, run, l, store.OutWith{}, func(r *store.OutRow) error {
		counts.Rows++
		raw[r.Number] = string(r.Raw)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if raw[2] != ",,firs@two.example\n" || raw[4] != ",,\n" || raw[int32(was.Rows)] != ",,\n" || raw[1] != "somebody,ann@one.example,\n" || raw[3] != "somebody,otto@one.example,firs@two.example\n" {
		t.Errorf("rows: %q %q %q %q", raw[1], raw[2], raw[3], raw[4])
	}
	if l.Addresses != was.Addresses-2 || l.Blank != was.Blank+2 || l.Duplicates != was.Duplicates-1 || l.Erased != 3 || l.Rows != counts.Rows {
		t.Errorf("counted %+v, before %+v", l.ListCounts, was.ListCounts)
	}
	var mailboxes []string
	if err := s.EachMailbox(ctx, l.ID, func(_ int32, local, domain string) error { mailboxes = append(mailboxes, local+"@"+domain); return nil }); err != nil {
		t.Fatal(err)
	}
	if slices.Contains(mailboxes, "jane@one.example") || int64(len(mailboxes)) != l.Addresses {
		t.Errorf("addresses: %v", mailboxes)
	}
	if parts, err := s.NextDomains(ctx, l.ID, store.Plan{}, 10); err != nil || len(parts) != 4 {
		t.Errorf("domains: %+v, %v", parts, err)
	}
	st, err := s.Latest(ctx, run.ID)
	if err != nil || verdictOf(t, st, jane) != 0 || verdictOf(t, st, private) != 0 || verdictOf(t, st, 1) == 0 || verdictOf(t, st, firs) == 0 {
		t.Errorf("results: %+v, %v", st, err)
	}
	asked, err := s.Asked(ctx, run.ID, st, []int32{1, firs})
	if err != nil || asked[1][0].Reply != "ann" || asked[firs][0].Reply != "firs" {
		t.Errorf("evidence: %+v, %v", asked, err)
	}
	sum := int64(0)
	progress, err := s.Progress(ctx, run.ID)
	for _, n := range progress[run.ID].Verdicts {
		sum += n
	}
	if err != nil || sum != 2 {
		t.Errorf("%d are counted, %v", sum, err)
	}
	if decided, err := s.Overrides(ctx, run); err != nil || len(decided[run.ID]) != 1 {
		t.Errorf("overrides: %+v, %v", decided, err)
	}
}
