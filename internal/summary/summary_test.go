package summary

import (
	"context"
	"encoding/json"
	"reflect"
	"strings"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/decide/decidetest"
	"varnet/internal/store"
)

var (
	noon  = time.Date(2026, time.November, 27, 12, 0, 0, 0, time.UTC)
	later = noon.Add(90 * time.Minute)
)

// TestRunSentence says where a run stands, in each of its states.
func TestRunSentence(t *testing.T) {
	run := func(change func(*contract.Run)) contract.Run {
		b := contract.Run{State: store.Running, Addresses: 1200, Done: 900, Open: 300}
		b.BeginAt = &noon
		change(&b)
		return b
	}
	for want, b := range map[string]contract.Run{
		"900 of 1,200 addresses are concluded.":                                                         run(func(*contract.Run) {}),
		"900 of 1,200 addresses are concluded; 40 were put off by their hosts and will be asked again.": run(func(b *contract.Run) { b.Postponed = 40 }),
		"900 of 1,200 addresses are concluded; 40 wait for a later round.":                              run(func(b *contract.Run) { b.State, b.Postponed = store.Waiting, 40 }),
		"All 1,200 addresses are concluded.":                                                            run(func(b *contract.Run) { b.State = store.Finished }),
		"The run begins on 27 November at 13:00 CET; it has 1,200 addresses.":                           run(func(b *contract.Run) { b.State = store.Drafted }),
		"900 of 1,200 addresses are concluded; the run was stopped.": run(func(b *contract.Run) {
			b.State, b.FinishedAt = store.Stopped, &later
		}),
		"900 of 1,200 addresses are concluded; the run was stopped at its limit of 90 minutes.": run(func(b *contract.Run) {
			b.State, b.FinishedAt, b.LimitMinutes = store.Stopped, &later, 90
		}),
		"900 of 1,200 addresses are concluded; the run is paused, with 300 left.": run(func(b *contract.Run) { b.State = store.Paused }),
		"900 of 1,200 addresses are concluded; the run is paused outside its hours and resumes on 27 November at 14:30 CET, with 300 left.": run(func(b *contract.Run) {
			b.State, b.ResumeAt = store.Paused, &later
		}),
		"All 1,200 addresses are concluded; 12 of them are asked again, 5 of these in a later round.": run(func(b *contract.Run) {
			b.Done, b.Open, b.Again, b.Postponed = 1200, 0, 12, 5
		}),
	} {
		if got := runSentence(b, berlin(t)); got != want {
			t.Errorf("%s: %s\nwant %s", b.State, got, want)
		}
	}
}

func berlin(t *testing.T) *time.Location {
	t.Helper()
	zone, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	return zone
}

// TestWaitSentence says what is waited for, at whom and until when.
func TestWaitSentence(t *testing.T) {
	for want, w := range map[string]Awaited{
		"12 addresses hosted by mill.example: 4 are being asked, on at most 3 sessions at a time.":                                                                                                                                {Operator: "mill.example", Ready: 8, InHand: 4, Lanes: 3},
		"1 address hosted by mill.example: waiting for a free lane, on at most 1 session at a time.":                                                                                                                              {Operator: "mill.example", Ready: 1, Lanes: 1},
		"9 addresses hosted by mill.example: put off, to be asked again from 12:00:00 UTC on.":                                                                                                                                    {Operator: "mill.example", Postponed: 9, Until: &noon},
		"9 addresses hosted by mill.example: it complained of too many questions and is left alone until 12:00:00 UTC.":                                                                                                           {Operator: "mill.example", Ready: 9, Rests: true, Until: &noon},
		"2 addresses hosted by mill.example: asking them has been failing since 27 November, 12:00 UTC, through no fault of the mail hosts. It is retried every few seconds; whoever looks after the installation has been told.": {Operator: "mill.example", Ready: 2, Fails: &noon},
		"3 addresses whose domain DNS failed for: put off, to be asked again from 12:00:00 UTC on.":                                                                                                                               {Operator: "?", Unresolved: true, Postponed: 3, Until: &noon},
		"5 addresses at small operators, which share lanes: 2 are being asked; 1 was put off until 12:00:00 UTC.":                                                                                                                 {Ready: 2, InHand: 2, Postponed: 1, Until: &noon},
	} {
		if got := waitSentence(w, time.UTC); got != want {
			t.Errorf("%+v: %s\nwant %s", w, got, want)
		}
	}
}

// TestList says what was read, and nothing of what is not there.
func TestList(t *testing.T) {
	earlier := int64(3)
	for want, l := range map[string]store.List{
		"1 row with 1 different address.": {ListCounts: store.ListCounts{Rows: 1, Addresses: 1}},
		"1,200 rows with 1,120 different addresses. 62 rows repeat an earlier address, 12 have no address and 6 have a text that is not an address. 13 addresses were cleaned up (spaces, brackets, mailto:). Your file is unchanged.": {
			ListCounts: store.ListCounts{Rows: 1200, Addresses: 1120, Duplicates: 62, Blank: 12, Malformed: 6, Mended: 13}},
		"10 rows with 10 different addresses. The newer file added 2 rows and changed 1 row.": {EarlierID: &earlier, Added: 2, Changed: 1, ListCounts: store.ListCounts{Rows: 10, Addresses: 10}},
	} {
		if got := List(l); got != want {
			t.Errorf("got  %s\nwant %s", got, want)
		}
	}
}

// TestDraft says what a run would take.
func TestDraft(t *testing.T) {
	l := store.List{ListCounts: store.ListCounts{Rows: 1200, Addresses: 1000, Malformed: 6}}
	d := Draft{Reused: 100, Hopeless: 50, Ask: 850}
	d.Likely, d.Low, d.High = 2*time.Minute, 100*time.Second, 4*time.Minute
	d.Slowest = pace.Load{Key: "mill.example", Addresses: 400, Cap: 2, PerSecond: 5}
	got := DraftOf(l, d, pace.Rounds{5 * time.Minute, time.Hour})
	for _, part := range []string{"The 1,200 rows hold 1,000 addresses and 6 texts that are not addresses: 100 are known from earlier runs, 50 are at domains that take no mail.",
		"850 are asked at their mail hosts", "expected to take 2 minutes, in 8 of 10 cases between 2 minutes and 4 minutes", "mill.example: 400 addresses on at most 2 sessions", "asked again after 5 minutes, then 60 minutes."} {
		if !strings.Contains(got.Sentence, part) {
			t.Errorf("%q does not say %q", got.Sentence, part)
		}
	}
	if got := DraftOf(l, Draft{Reused: 1006}, nil); !strings.HasSuffix(got.Sentence, "No mail host is asked, so this takes seconds.") {
		t.Error(got.Sentence)
	}
}

// TestEstimate: the shares of a sample hold for the whole list, and malformed texts are
// counted, not estimated.
func TestEstimate(t *testing.T) {
	verdicts := map[int32]finding.Verdict{
		1: finding.Conclude(finding.Deliverable, finding.MailboxAccepted, nil),
		2: finding.Conclude(finding.Undeliverable, finding.MailboxAbsent, nil),
	}
	e := EstimateOf(store.List{ListCounts: store.ListCounts{Addresses: 10_000, Malformed: 10_000}}, 400, map[int32]int64{1: 195, 2: 195}, verdicts)
	if e.Late != 10 || e.Addresses != 20_000 || e.LeftOut.Low < 0.7 || e.LeftOut.High > 0.8 {
		t.Errorf("%+v", e)
	}
	for _, part := range []string{"Of the 20,000 addresses", "a sample of 400", "10 of them did not answer in time"} {
		if !strings.Contains(e.Sentence, part) {
			t.Errorf("%q does not say %q", e.Sentence, part)
		}
	}
}

// TestNotices: what must not be taken for a fault of the addresses is told, if it is a
// part worth telling.
func TestNotices(t *testing.T) {
	b := contract.Run{Done: 1000, Causes: []contract.CauseCount{
		{Cause: finding.ExchangerBlocksUs, Addresses: 60}, {Cause: finding.ExchangerUnreachable, Addresses: 49},
		{Cause: finding.DomainUnresolved, Addresses: 50}, {Cause: finding.MailboxAbsent, Addresses: 500}}}
	got := notices(b)
	if len(got) != 2 || !strings.HasPrefix(got[0], "60 of the 1,000") || !strings.HasPrefix(got[1], "DNS failed for 50 of the 1,000") {
		t.Errorf("%q", got)
	}
	happened := happenings([]store.Notice{
		{Kind: "refused", At: noon, Route: "direct", Operator: "mill.example", Words: "554 no", Moved: true},
		{Kind: "refused", At: later, Route: "direct", Operator: "barn.example"},
		{Kind: "rests", At: noon, Route: "direct", Until: &later},
		{Kind: "fails", At: noon, Route: "quay", Until: &later, Words: "It is gone.", Moved: true},
	}, time.UTC)
	if len(happened) != 3 {
		t.Fatalf("%q", happened)
	}
	for i, part := range []string{"2 operators refuse us by the route direct: mill.example and barn.example. The first said: “554 no”", "left alone until 13:30:00 UTC. There is no other", "the route quay failed: It is gone. It is tried again at 13:30:00 UTC. The work has moved"} {
		if !strings.Contains(happened[i], part) {
			t.Errorf("%q does not say %q", happened[i], part)
		}
	}
}

// source is a run in memory.
type source struct {
	*decidetest.Source
	notices []store.Notice
}

func (s source) Notices(_ context.Context, runs ...int64) (map[int64][]store.Notice, error) {
	return map[int64][]store.Notice{runs[0]: s.notices}, nil
}
func (source) Estimates(context.Context, ...int64) (map[int64]json.RawMessage, error) {
	return nil, nil
}
func (source) Sessions(context.Context, int64) (int64, error) { return 12, nil }
func (source) Runs(context.Context, int64, int64, int64, int) ([]store.Run, error) {
	return []store.Run{{ID: 6}}, nil
}
func (source) DomainPlaces(context.Context, store.Run, []int32, int) ([]store.Place, error) {
	return []store.Place{{}}, nil
}
func (s source) OperatorPlaces(ctx context.Context, r store.Run, good []int32, n int) ([]store.Place, error) {
	return s.DomainPlaces(ctx, r, good, n)
}
func (source) Pairs(context.Context, int64, int64) ([]store.VerdictPair, error) {
	return []store.VerdictPair{{From: 1, To: 3, Addresses: 4}, {From: 1, To: 1, Addresses: 90}}, nil
}

// TestRun sums a run up: its counts are those of the rows, what is left is asked for once
// in a moment, and the report says the same.
func TestRun(t *testing.T) {
	members := decidetest.Members(300)
	members.Run.State, members.Run.Policy = store.Running, policy.Careful()
	asked := 0
	s := &Summaries{Source: source{members, []store.Notice{{Kind: "rests", At: noon, Route: "direct", Until: &later}}},
		Left: func(context.Context, store.Run) (Left, error) {
			asked++
			return Left{Awaited: []Awaited{{Operator: "mill.example", Ready: 3, Lanes: 1}}}, nil
		}}
	b, err := s.Run(t.Context(), members.Run, members.List, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	rows, causes := int64(0), int64(0)
	for _, c := range b.Decisions {
		rows += c.Rows
	}
	for _, c := range b.Causes {
		causes += c.Addresses
	}
	if rows != 300 || causes != b.Done || b.Done+b.Open != b.Addresses || len(b.Waits) != 1 || len(b.Notices) != 1 {
		t.Errorf("%d rows, %d by cause, %d done and %d open of %d; %v %v", rows, causes, b.Done, b.Open, b.Addresses, b.Waits, b.Notices)
	}
	if _, err := s.Run(t.Context(), members.Run, members.List, time.UTC); err != nil || asked != 1 {
		t.Errorf("what is left was asked for %d times, %v", asked, err)
	}
	r, err := s.Report(t.Context(), members.Run, members.List, time.UTC)
	if err != nil || r.Addresses != b.Addresses || len(r.Causes) != len(b.Causes) || len(r.Domains) != 1 {
		t.Errorf("%+v, %v", r, err)
	}
	if len(r.Changes) != 1 || !strings.Contains(r.Changes[0], "changed their finding since run 6: 4 from deliverable to undeliverable.") {
		t.Errorf("%q", r.Changes)
	}
	if len(r.Work) < 1 || !strings.Contains(r.Work[0], "in 12 sessions") {
		t.Errorf("%q", r.Work)
	}
}

// counting counts how often it is asked.
type counting struct {
	source
	asked int
}

func (c *counting) Progress(ctx context.Context, runs ...int64) (map[int64]store.Progress, error) {
	c.asked++
	return c.source.Progress(ctx, runs...)
}

func (c *counting) Verdicts(ctx context.Context) (map[int32]finding.Verdict, error) {
	c.asked++
	return c.source.Verdicts(ctx)
}

func (c *counting) Overrides(ctx context.Context, runs ...store.Run) (map[int64][]store.Override, error) {
	c.asked++
	return c.source.Overrides(ctx, runs...)
}

func (c *counting) Notices(ctx context.Context, runs ...int64) (map[int64][]store.Notice, error) {
	c.asked++
	return c.source.Notices(ctx, runs...)
}

func (c *counting) Estimates(ctx context.Context, lists ...int64) (map[int64]json.RawMessage, error) {
	c.asked++
	return c.source.Estimates(ctx, lists...)
}

// TestManyRunsAreReadAtOnce: a hundred runs are asked for no more often than one, and each
// is summed up as by itself.
func TestManyRunsAreReadAtOnce(t *testing.T) {
	members := decidetest.Members(60)
	members.Run.State, members.Run.Policy, members.Run.FinishedAt = store.Finished, policy.Careful(), &noon
	c := &counting{source: source{members, nil}}
	s := &Summaries{Source: c}
	runs := make([]store.Run, 100)
	for i := range runs {
		runs[i] = members.Run
		runs[i].ID += int64(i)
	}
	lists := map[int64]store.List{members.List.ID: members.List}
	one, err := s.Runs(t.Context(), runs[:1], lists, time.UTC)
	first := c.asked
	if err != nil {
		t.Fatal(err)
	}
	many, err := s.Runs(t.Context(), runs, lists, time.UTC)
	if err != nil || len(many) != 100 || c.asked != 2*first || first > 5 {
		t.Errorf("one run was asked for %d times, a hundred %d times; %v", first, c.asked-first, err)
	}
	many[99].ID = one[0].ID
	if !reflect.DeepEqual(one[0], many[99]) {
		t.Errorf("by itself %+v, among others %+v", one[0], many[99])
	}
}

func TestAges(t *testing.T) {
	for want, counts := range map[string][]int64{
		"There is no result yet.":                {0, 0, 0, 0, 0, 0},
		"All 7 results are 1 to 7 days old.":     {0, 7, 0, 0, 0, 0},
		"All 12 results are younger than a day.": {12, 0, 0, 0, 0, 0},
		"Of the 18 results 12 are younger than a day, 5 are 7 to 30 days old and 1 is older than 180 days.": {12, 0, 5, 0, 0, 1},
	} {
		if got := Ages(counts, 36*time.Hour); got.Sentence != want || got.MeanDays != 1.5 {
			t.Errorf("%v: %+v", counts, got)
		}
	}
}
