package store_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/core/probe"
	"varnet/internal/store"
)

func concludeSome(t *testing.T, s *store.Store, run store.Run, results ...store.Concluded) {
	t.Helper()
	err := s.KnowVerdicts(t.Context(), results)
	if err == nil {
		err = s.InTx(t.Context(), func(s *store.Store, _ pgx.Tx) error { return s.AddResults(t.Context(), run.ID, results) })
	}
	if err != nil {
		t.Fatal(err)
	}
}

func answered(address int32, cause finding.Cause, reply string) store.Concluded {
	return store.Concluded{Address: address, Verdict: finding.ConcludeFrom(cause, nil), Asked: []probe.Asked{
		{Parcel: 7, Conversation: 2, At: time.Date(2026, 11, 25, 9, 0, 0, 123_456_000, time.UTC), TookMS: 1.204, Reply: reply, Why: "The host said so."}}}
}

// TestTheLastBatchHolds: an address that was asked again stands as it was
// concluded last, in pages, counts, evidence and files, and counts once.
func TestTheLastBatchHolds(t *testing.T) {
	s, ctx := open(t), t.Context()
	run := newRun(t, s, workspace(t, s, "ours"), 5)
	postponed := answered(2, finding.ExchangerPostponed, "450 4.2.0 later")
	concludeSome(t, s, run, answered(1, finding.MailboxAccepted, "250 ok"), postponed, answered(3, finding.MailboxAbsent, "550 5.1.1 no"))
	before, err := s.Latest(ctx, run.ID)
	if err != nil {
		t.Fatal(err)
	}
	again := answered(2, finding.MailboxAccepted, "250 2.1.5 ok now")
	again.Was = verdictOf(t, before, 2)
	concludeSome(t, s, run, again)
	after, err := s.Latest(ctx, run.ID)
	if err != nil {
		t.Fatal(err)
	}
	if verdictOf(t, after, 2) != verdictOf(t, after, 1) || verdictOf(t, before, 2) == verdictOf(t, after, 2) || verdictOf(t, after, 4) != 0 || verdictOf(t, after, 99) != 0 || verdictOf(t, after, -1) != 0 {
		t.Errorf("the latest results are wrong: %d, %d, %d", verdictOf(t, after, 1), verdictOf(t, after, 2), verdictOf(t, after, 4))
	}
	found, err := s.Progress(ctx, run.ID)
	p := found[run.ID]
	if err != nil {
		t.Fatal(err)
	}
	counts, err := s.ResultCounts(ctx, run, store.ResultFilter{})
	if err != nil {
		t.Fatal(err)
	}
	for verdict, n := range p.Verdicts {
		if counts[verdict] != n {
			t.Errorf("verdict %d: the tally says %d, the results %d", verdict, n, counts[verdict])
		}
	}
	full, err := s.FullResult(ctx, run, 2)
	if err != nil || len(full.Asked) != 1 || !reflect.DeepEqual(full.Asked[0], again.Asked[0]) {
		t.Errorf("evidence: %+v, %v", full.Asked, err)
	}
	if _, err := s.FullResult(ctx, run, 4); err != store.ErrNotFound {
		t.Errorf("an address without a result: %v", err)
	}
	list, err := s.List(ctx, run.WorkspaceID, run.ListID)
	if err != nil {
		t.Fatal(err)
	}
	var replies []string
	err = s.EachRow(ctx, run, list, store.OutWith{Replies: true}, func(r *store.OutRow) error {
		replies = append(replies, r.Cells[0].Reply.Text)
		return nil
	})
	if want := []string{"250 ok", "250 2.1.5 ok now", "550 5.1.1 no", "", ""}; err != nil || !reflect.DeepEqual(replies, want) {
		t.Errorf("replies: %q, %v", replies, err)
	}
}

// TestLatestResultsTakenBackAreForgotten: what a transaction saw that was rolled back
// is not shown to anybody.
func TestLatestResultsTakenBackAreForgotten(t *testing.T) {
	s, ctx := open(t), t.Context()
	run := newRun(t, s, workspace(t, s, "ours"), 3)
	result := answered(1, finding.MailboxAccepted, "250 ok")
	if err := s.KnowVerdicts(ctx, []store.Concluded{result}); err != nil {
		t.Fatal(err)
	}
	broken := fmt.Errorf("it broke off")
	err := s.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := s.AddResults(ctx, run.ID, []store.Concluded{result}); err != nil {
			return err
		}
		if st, err := s.Latest(ctx, run.ID); err != nil || verdictOf(t, st, 1) == 0 {
			t.Errorf("inside: %v", err)
		}
		return broken
	})
	if err != broken {
		t.Fatal(err)
	}
	if st, err := s.Latest(ctx, run.ID); err != nil || verdictOf(t, st, 1) != 0 {
		t.Errorf("outside it stands: %v", err)
	}
}

// TestReuseTakesTheEvidenceAlong: a run takes over the freshest results of earlier
// runs, of other lists too, with what hosts said, and those alone that are fresh.
func TestReuseTakesTheEvidenceAlong(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	first, other := newRun(t, s, w, 6), newRun(t, s, w, 4)
	concludeSome(t, s, first, answered(1, finding.MailboxAccepted, "250 first"), answered(2, finding.MailboxAccepted, "250 first"), answered(5, finding.MailboxFull, "452 full"))
	concludeSome(t, s, other, answered(2, finding.MailboxAccepted, "250 other"), answered(3, finding.MailboxAccepted, "250 other"))
	run := newRun(t, s, w, 6)
	verdicts, err := s.Verdicts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var fresh []store.Fresh
	for id, v := range verdicts {
		if v.Cause == finding.MailboxAccepted {
			fresh = append(fresh, store.Fresh{Verdict: id, Since: time.Now().Add(-time.Hour)})
		}
	}
	if n, err := s.Reusable(ctx, run, fresh, false); n != 3 || err != nil {
		t.Errorf("%d can be taken over, %v", n, err)
	}
	if n, err := s.Reusable(ctx, run, fresh, true); n != 0 || err != nil {
		t.Errorf("%d of samples, where there are none, %v", n, err)
	}
	err = s.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		n := int64(0)
		err := s.Reuse(ctx, &run, fresh, false, func(results int) { n += int64(results) })
		if n != 3 {
			t.Errorf("%d taken over", n)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range []int64{first.ListID, other.ListID} { // what was taken over is the run's own
		if err := s.DeleteList(ctx, w, l); err != nil {
			t.Fatal(err)
		}
	}
	for address, want := range map[int32]string{1: "250 first", 2: "250 other", 3: "250 other"} {
		r, err := s.FullResult(ctx, run, address)
		if err != nil || len(r.Asked) != 1 || r.Asked[0].Reply != want {
			t.Errorf("address %d: %+v, %v", address, r.Asked, err)
		}
	}
	run.Plan.Reused = 3
	left, err := s.AddressesIn(ctx, run, []string{"fernhollow.example"}, 0, 100)
	if err != nil || len(left) != 3 || left[0].Ordinal != 4 || left[0].Mailbox != "a4@fernhollow.example" {
		t.Errorf("left to ask: %+v, %v", left, err)
	}
}

// TestAParcelCarriesItsAddresses: what is put into a parcel comes out of it.
func TestAParcelCarriesItsAddresses(t *testing.T) {
	s := open(t)
	run := newRun(t, s, workspace(t, s, "ours"), 3)
	p := parcel(run, 1, time.Now())
	p.Again = true
	p.Questions = []store.Asking{
		{AddressRow: store.AddressRow{Ordinal: 1, Mailbox: `"a b"@fernhollow.example`, Domain: "fernhollow.example", Traits: []finding.Trait{finding.TraitRole, finding.TraitTrapListed}}, Rounds: 2, Was: 4},
		{AddressRow: store.AddressRow{Ordinal: 3, Mailbox: "dürer@seed.example", Domain: "seed.example"}, Asked: answered(3, finding.MailboxAbsent, "450 later").Asked},
	}
	add(t, s, p)
	got, err := s.Claim(t.Context(), p.LaneKey, 0)
	if err != nil || got == nil || !got.Again || !reflect.DeepEqual(clean(got.Questions), clean(p.Questions)) {
		t.Errorf("put in %+v, came out %+v, %v", p.Questions, got, err)
	}
}

// TestAParcelIsShared: what a lane leaves of a parcel another takes, each address
// is there once, and of a parcel that is no more the lane's nothing is taken.
func TestAParcelIsShared(t *testing.T) {
	s := open(t)
	run := newRun(t, s, workspace(t, s, "ours"), 7)
	all := parcel(run, 1, time.Now(), 1, 2, 3, 4, 5, 6, 7)
	add(t, s, all)
	first, err := s.Claim(t.Context(), all.LaneKey, 0)
	if err != nil || first == nil {
		t.Fatal(first, err)
	}
	for _, no := range []struct{ id, lane int64 }{{first.ID, 1}, {first.ID + 1, 0}} {
		if ok, err := s.Shorten(t.Context(), &store.Parcel{ID: no.id, Questions: first.Questions}, int(no.lane), 3); ok || err != nil {
			t.Errorf("parcel %d is shortened on lane %d, %v", no.id, no.lane, err)
		}
	}
	if ok, err := s.Shorten(t.Context(), first, 0, 3); !ok || err != nil {
		t.Fatal(ok, err)
	}
	rest := *first
	rest.Questions, first.Questions = first.Questions[3:], first.Questions[:3]
	add(t, s, rest)
	if n, err := s.GiveBack(t.Context(), all.LaneKey, 0); n != 1 || err != nil { // its worker died
		t.Fatal(n, err)
	}
	for _, want := range [][]store.Asking{first.Questions, rest.Questions} {
		got, err := s.Claim(t.Context(), all.LaneKey, 2)
		if err != nil || got == nil || !reflect.DeepEqual(clean(got.Questions), clean(want)) {
			t.Errorf("got %+v, %v, want %+v", got, err, want)
		}
	}
	waits, err := s.Awaited(t.Context(), run.ID)
	if err != nil || len(waits) != 1 || waits[0].InHand != 7 || waits[0].Ready != 0 {
		t.Errorf("%+v wait, %v", waits, err)
	}
}

// clean makes empty lists none.
func clean(questions []store.Asking) []store.Asking {
	for i := range questions {
		if len(questions[i].Asked) == 0 {
			questions[i].Asked = nil
		}
	}
	return questions
}

// TestAbsencesAreKeyed: those of the release before are found and then keyed, a change of the
// secret leaves what is known, and what is old is forgotten.
func TestAbsencesAreKeyed(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	mailboxes := []string{"ada@fernhollow.example", "birk@fernhollow.example", "cy@fernhollow.example"}
	for i, m := range mailboxes {
		sum := sha256.Sum256([]byte(m))
		if _, err := s.Pool().Exec(ctx, "INSERT INTO absence (workspace_id, fingerprint, at) VALUES ($1, $2, now() - $3 * interval '1 year')", w, sum[:], i+1); err != nil {
			t.Fatal(err)
		}
	}
	knows := func(when string, want int) {
		t.Helper()
		all, err := s.Absences(ctx, w, append(mailboxes, "nobody@fernhollow.example"))
		if err != nil || len(all) != want {
			t.Errorf("%s it knows %v, %v", when, all, err)
		}
	}
	before := func(present string, want int64) {
		t.Helper()
		if n, err := s.FingerprintsBefore(ctx, []byte(present)); err != nil || n != want {
			t.Errorf("%d are remembered by another secret than %q, %v; want %d", n, present, err, want)
		}
	}
	for years, want := range map[int]bool{2: true, 4: false} {
		if old, err := s.HasAbsencesBefore(ctx, w, time.Now().AddDate(-years, 0, 0)); err != nil || old != want {
			t.Errorf("absences of %d years ago: %v, %v", years, old, err)
		}
	}
	knows("unkeyed", 3)
	if err := s.KeyAbsences(ctx); err != nil {
		t.Fatal(err)
	}
	before("one", 0)
	knows("keyed, without the one of three years ago,", 2)
	s.FingerprintBy(keyedWith("two", "one"))
	knows("with a new secret", 2)
	before("two", 2)
	s.FingerprintBy(keyedWith("two"))
	knows("with the new secret alone", 0)
	if err := s.ForgetFingerprintsBefore(ctx, []byte("two")); err != nil {
		t.Fatal(err)
	}
	before("two", 0)
}

// TestAbsencesAreRemembered: of a run that came to its end, and of one whose list is
// deleted before.
func TestAbsencesAreRemembered(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	known := func() (n int) {
		all, err := s.Absences(ctx, w, []string{"a1@fernhollow.example", "a2@fernhollow.example", "A3@Fernhollow.example"})
		if err != nil {
			t.Fatal(err)
		}
		return len(all)
	}
	run := newRun(t, s, w, 3)
	concludeSome(t, s, run, answered(1, finding.MailboxAccepted, "250 ok"), answered(2, finding.MailboxAbsent, "550 no"))
	remember := func() {
		if err := s.RememberAbsent(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if remember(); known() != 0 {
		t.Errorf("%d are remembered before the end", known())
	}
	if _, err := s.Finish(ctx, run.ID); err != nil {
		t.Fatal(err)
	}
	remember()
	if remember(); known() != 1 {
		t.Errorf("%d are remembered after the end", known())
	}
	concludeSome(t, s, run, answered(1, finding.MailboxAbsent, "550 no")) // begun before the end
	if remember(); known() != 2 {
		t.Errorf("%d are remembered after a conversation that was recorded late", known())
	}
	if _, err := s.Pool().Exec(ctx, "UPDATE run SET finished_at = now() - interval '2 hours'"); err != nil {
		t.Fatal(err)
	}
	remember()
	concludeSome(t, s, run, answered(3, finding.MailboxAbsent, "550 no"))
	if err := s.DeleteList(context.WithoutCancel(ctx), w, run.ListID); err != nil {
		t.Fatal(err)
	}
	if n := known(); n != 3 {
		t.Errorf("%d are remembered after the list was deleted", n)
	}
}

// TestAskAgainTakesAlong: what is asked again carries the verdict that stands and
// what was answered before, and stands until it is replaced.
func TestAskAgainTakesAlong(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	run := newRun(t, s, w, 1200)
	var results []store.Concluded
	for a := int32(1); a <= 1200; a++ {
		cause := finding.ExchangerPostponed
		if a%3 == 0 {
			cause = finding.MailboxAccepted
		}
		results = append(results, answered(a, cause, fmt.Sprintf("450 4.2.0 later, %d", a)))
	}
	concludeSome(t, s, run, results...)
	st, err := s.Latest(ctx, run.ID)
	if err != nil {
		t.Fatal(err)
	}
	postponed := verdictOf(t, st, 1)
	if _, err := s.AskAgain(ctx, run, []int32{postponed}, nil, "?", 500); err != store.ErrNotFinished {
		t.Errorf("a run that goes on is asked again: %v", err)
	}
	if _, err := s.Finish(ctx, run.ID); err != nil {
		t.Fatal(err)
	}
	n, err := s.AskAgain(ctx, run, []int32{postponed}, nil, "?", 500)
	if err != nil || n != 800 {
		t.Fatalf("%d are asked again, %v; want 800", n, err)
	}
	asked := map[int32]bool{}
	for {
		p, err := s.Claim(ctx, "?", 0)
		if err != nil {
			t.Fatal(err)
		}
		if p == nil {
			break
		}
		if !p.Again || len(p.Questions) > 500 {
			t.Errorf("a parcel of %d, again: %v", len(p.Questions), p.Again)
		}
		for _, q := range p.Questions {
			if asked[q.Ordinal] || q.Ordinal%3 == 0 || q.Was != postponed || len(q.Asked) != 1 || q.Asked[0].Reply != fmt.Sprintf("450 4.2.0 later, %d", q.Ordinal) {
				t.Errorf("%+v is asked again, before: %v", q, asked[q.Ordinal])
			}
			asked[q.Ordinal] = true
		}
	}
	if len(asked) != 800 {
		t.Errorf("%d are in the parcels", len(asked))
	}
	if now, err := s.Latest(ctx, run.ID); err != nil || verdictOf(t, now, 1) != postponed {
		t.Errorf("it does not stand until it is replaced: %v", err)
	}
}

// TestDoubtedDomainsAreAskedAgainOnce: what a domain said before it was found, while the
// run went on, to answer by chance; what it said in other words stays.
func TestDoubtedDomainsAreAskedAgainOnce(t *testing.T) {
	s, ctx := open(t), t.Context()
	run := newRun(t, s, workspace(t, s, "ours"), 4)
	concludeSome(t, s, run, answered(1, finding.MailboxAccepted, "250"), answered(2, finding.MailboxUnclear, "250"), answered(3, finding.MailboxAbsent, "550"), answered(4, finding.MailboxAccepted, "250"))
	st, err := s.Latest(ctx, run.ID)
	if err != nil {
		t.Fatal(err)
	}
	const domain = "fernhollow.example"
	if err := s.ReplaceRunDomains(ctx, run.ID, []store.RunDomain{{Domain: domain, Operator: domain}}); err != nil {
		t.Fatal(err)
	}
	learn := func(accepts probe.Accepts, at time.Time) []string {
		if err := s.SaveAcceptances(ctx, []probe.Acceptance{{Domain: domain, Exchanger: "mx1." + domain, Accepts: accepts, At: at}}); err != nil {
			t.Fatal(err)
		}
		domains, err := s.DoubtedDomains(ctx, run.ID)
		if err != nil {
			t.Fatal(err)
		}
		return domains
	}
	if got := learn(probe.AcceptsMixed, time.Now().Add(-time.Hour)); len(got) > 0 {
		t.Errorf("%v were found out before the run began", got)
	}
	if got := learn(probe.AcceptsKnown, time.Now()); len(got) > 0 {
		t.Errorf("%v know their mailboxes", got)
	}
	domains := learn(probe.AcceptsMixed, time.Now())
	if !slices.Equal(domains, []string{domain}) {
		t.Fatalf("%v were found out", domains)
	}
	believed := []int32{verdictOf(t, st, 1), verdictOf(t, st, 3)}
	if n, err := s.AskDoubted(ctx, run, []string{"elsewhere.example"}, nil, "?", 500); err != nil || n != 0 {
		t.Errorf("%d are asked again of a domain that is not there, %v", n, err)
	}
	if got, err := s.DoubtedDomains(ctx, run.ID); err != nil || len(got) != 0 {
		t.Errorf("%v are asked again twice, %v", got, err)
	}
	run = newRun(t, s, run.WorkspaceID, 4)
	concludeSome(t, s, run, answered(1, finding.MailboxAccepted, "250"), answered(2, finding.MailboxUnclear, "250"), answered(3, finding.MailboxAbsent, "550"), answered(4, finding.MailboxAccepted, "250"))
	n, err := s.AskDoubted(ctx, run, domains, believed, "?", 500)
	if err != nil || n != 3 {
		t.Fatalf("%d are asked again, %v; want 3", n, err)
	}
	if n, err := s.AskDoubted(ctx, run, domains, believed, "?", 500); err != nil || n != 0 {
		t.Errorf("%d are asked again once more, %v", n, err)
	}
	if done, err := s.Done(ctx, run.ID); err != nil || len(done) > 0 {
		t.Errorf("a run that asks again is done: %v, %v", done, err)
	}
	p, err := s.Claim(ctx, "?", 0)
	if err != nil || p == nil || len(p.Questions) != 3 || p.Questions[1].Ordinal != 3 {
		t.Errorf("%+v, %v", p, err)
	}
}

// TestAskAgainAboutSome: of those chosen, the ones that have the verdict.
func TestAskAgainAboutSome(t *testing.T) {
	s, ctx := open(t), t.Context()
	run := newRun(t, s, workspace(t, s, "ours"), 4)
	concludeSome(t, s, run, answered(1, finding.ExchangerPostponed, "450"), answered(2, finding.ExchangerPostponed, "450"), answered(3, finding.MailboxAccepted, "250"))
	if _, err := s.Finish(ctx, run.ID); err != nil {
		t.Fatal(err)
	}
	st, err := s.Latest(ctx, run.ID)
	if err != nil {
		t.Fatal(err)
	}
	n, err := s.AskAgain(ctx, run, []int32{verdictOf(t, st, 1)}, []int32{2, 3, 4, 99, -5}, "?", 500)
	if err != nil || n != 1 {
		t.Errorf("%d are asked again, %v; want 1", n, err)
	}
	p, err := s.Claim(ctx, "?", 0)
	if err != nil || p == nil || len(p.Questions) != 1 || p.Questions[0].Ordinal != 2 {
		t.Errorf("%+v, %v", p, err)
	}
}

// TestMixedIsNotOverwritten: who found out that a host answers by chance is believed, not
// another who at the same time knew nothing of it, until the host has proved that it knows
// its mailboxes.
func TestMixedIsNotOverwritten(t *testing.T) {
	s, ctx := open(t), t.Context()
	const domain = "coin.example"
	now := time.Now()
	for n, c := range []struct {
		accepts probe.Accepts
		refused int
		at      time.Time
		want    probe.Accepts
	}{
		{probe.AcceptsKnown, 1, now, probe.AcceptsKnown},
		{probe.AcceptsMixed, 1, now, probe.AcceptsMixed},
		{probe.AcceptsKnown, 2, now.Add(time.Second), probe.AcceptsMixed},
		{probe.AcceptsKnown, probe.Proof, now.Add(2 * time.Second), probe.AcceptsKnown},
		{probe.AcceptsMixed, 0, now.Add(3 * time.Second), probe.AcceptsMixed},
		{probe.AcceptsAny, 0, now.Add(4 * time.Second), probe.AcceptsAny},
		{probe.AcceptsMixed, 0, now.Add(5 * time.Second), probe.AcceptsMixed},
		{probe.AcceptsKnown, 1, now.Add(probe.Fresh + time.Minute), probe.AcceptsKnown},
	} {
		if err := s.SaveAcceptances(ctx, []probe.Acceptance{{Domain: domain, Exchanger: "mx1." + domain, Accepts: c.accepts, Refused: c.refused, At: c.at}}); err != nil {
			t.Fatal(err)
		}
		known, err := s.Acceptances(ctx, domain)
		if err != nil || len(known) != 1 || known[0].Accepts != c.want {
			t.Errorf("step %d: %+v, %v; want %s", n, known, err, c.want)
		}
	}
}

// TestRestate: other odds leave evidence and age of a result as they are, in this run and where it is
// reused; what has changed since it was looked at keeps what it changed to.
func TestRestate(t *testing.T) {
	s, ctx := open(t), t.Context()
	ours := workspace(t, s, "ours")
	run := newRun(t, s, ours, 3)
	concludeSome(t, s, run, answered(1, finding.MailboxAnyAccepted, "250 one"), answered(2, finding.MailboxAnyAccepted, "250 two"))
	before, err := s.Latest(ctx, run.ID)
	if err != nil {
		t.Fatal(err)
	}
	was, err := s.FullResult(ctx, run, 1)
	if err != nil {
		t.Fatal(err)
	}
	likely := finding.ConcludeFrom(finding.MailboxAnyAccepted, nil)
	likely.Odds = 0.83
	results := []store.Concluded{{Address: 1, Verdict: likely, Was: verdictOf(t, before, 1)}, {Address: 2, Verdict: likely, Was: verdictOf(t, before, 2)}}
	bounced := answered(2, finding.MailboxBounced, "550 5.1.1 gone")
	bounced.Was = verdictOf(t, before, 2)
	concludeSome(t, s, run, bounced) // between the look and the writing
	if err := s.KnowVerdicts(ctx, results); err != nil {
		t.Fatal(err)
	}
	if err := s.InTx(ctx, func(s *store.Store, _ pgx.Tx) error { return s.Restate(ctx, run.ID, results) }); err != nil {
		t.Fatal(err)
	}
	verdicts, err := s.Verdicts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	now, err := s.FullResult(ctx, run, 1)
	if err != nil || verdicts[now.Verdict].Odds != 0.83 || !now.At.Equal(was.At) || !reflect.DeepEqual(now.Asked, was.Asked) {
		t.Errorf("%v: %+v of %+v, before %+v", err, now, verdicts[now.Verdict], was)
	}
	if second, err := s.FullResult(ctx, run, 2); err != nil || verdicts[second.Verdict].Cause != finding.MailboxBounced || second.Asked[0].Reply != "550 5.1.1 gone" {
		t.Errorf("%v: what bounced meanwhile became %+v", err, verdicts[second.Verdict])
	}
	counts, err := s.ResultCounts(ctx, run, store.ResultFilter{})
	if err != nil {
		t.Fatal(err)
	}
	found, err := s.Progress(ctx, run.ID)
	if err != nil {
		t.Fatal(err)
	}
	for verdict, n := range found[run.ID].Verdicts {
		if counts[verdict] != n {
			t.Errorf("verdict %+v: the tally says %d, the results %d", verdicts[verdict], n, counts[verdict])
		}
	}
}

func verdictOf(t *testing.T, l *store.Latest, address int32) int32 {
	t.Helper()
	v, err := l.Verdict(t.Context(), address)
	if err != nil {
		t.Fatal(err)
	}
	return v
}
