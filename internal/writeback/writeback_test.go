package writeback_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/problem"
	"varnet/internal/connect"
	"varnet/internal/decide"
	"varnet/internal/decide/decidetest"
	"varnet/internal/store"
	"varnet/internal/store/pack"
	"varnet/internal/writeback"
)

// shelf is a list of contacts: the key, the address, and what was found.
func shelf(t *testing.T) (*decidetest.Source, *decide.Decider) {
	t.Helper()
	s := decidetest.New([]string{"key", "e-mail"}, []finding.Verdict{{Finding: finding.Deliverable, Cause: finding.MailboxAccepted}, {Finding: finding.Undeliverable, Cause: finding.MailboxAbsent}},
		decidetest.Row{Cells: []string{"c-1", "ada@fernhollow.example"}, Verdict: 1},
		decidetest.Row{Cells: []string{"c-2", "ben@fernhollow.example"}, Verdict: 2},
		decidetest.Row{Cells: []string{"c-3", "Ada@fernhollow.example"}, Of: 1},
		decidetest.Row{Cells: []string{"c-4", "Ben@fernhollow.example"}, Of: 2},
		decidetest.Row{Cells: []string{"c-5", ""}, Blank: true},
		decidetest.Row{Cells: []string{"c-6", "cai@fernhollow.example"}},
		decidetest.Row{Cells: []string{"", "dora@fernhollow.example"}, Verdict: 1})
	s.List.AddressColumns = []int{1}
	d, err := decide.New(t.Context(), s, s.Run, s.List, policy.Careful())
	if err != nil {
		t.Fatal(err)
	}
	return s, d
}

// TestEach: contacts that share an address share what they get, one of them goes into a
// collection; nothing is written for who has no address, no result or no key.
func TestEach(t *testing.T) {
	s, d := shelf(t)
	spec := pack.WriteBackSpec{Steps: []pack.WriteBackStep{
		{Act: "field", Name: "mail state", Of: "finding", Values: map[string]string{"undeliverable": "bad"}},
		{Act: "suppress", Decisions: []string{"drop"}},
		{Act: "collection", Name: "Spring", Findings: []string{"deliverable"}},
		{Act: "field", Name: "why", Of: "cause", Values: map[string]string{"mailbox.accepted": ""}}}}
	var got []string
	err := writeback.Each(t.Context(), s, d, spec, func(i store.WriteItem) error {
		got = append(got, fmt.Sprintf("%d %d %s %s", i.Step, i.Number, i.Key, i.Value))
		return nil
	})
	want := "0 1 c-1 deliverable, 2 1 c-1 yes, 0 2 c-2 bad, 1 2 c-2 yes, 3 2 c-2 mailbox.absent, 0 3 c-3 deliverable, 0 4 c-4 bad, 1 4 c-4 yes, 3 4 c-4 mailbox.absent"
	if err != nil || strings.Join(got, ", ") != want {
		t.Errorf("%v: %s", err, strings.Join(got, ", "))
	}
	p, err := writeback.Count(t.Context(), s, d, spec, 1)
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"2 contacts will get “bad” and 2 “deliverable” in the field “mail state”.", "2 contacts will go on the suppression list.",
		"1 contact will form the new group “Spring”.", "2 contacts will get “mailbox.absent” in the field “why”."} {
		if got := writeback.Says(spec.Steps[i], p.Steps[i], "group", "Members"); got != want || len(p.Steps[i].First) != 1 {
			t.Errorf("%s", got)
		}
	}
}

// TestCheck: what of a write-back cannot be is said with its place.
func TestCheck(t *testing.T) {
	takes := []connect.Act{connect.SetField, connect.Collect}
	for _, of := range []struct {
		step        pack.WriteBackStep
		field, want string
	}{
		{pack.WriteBackStep{Act: "field", Name: "x", Of: "finding"}, "", ""},
		{pack.WriteBackStep{Act: "tag", Name: "x"}, "steps[0].act", "does not take \"tag\"; it takes field, collection"},
		{pack.WriteBackStep{Act: "collection", Name: " "}, "steps[0].name", "give the collection a name"},
		{pack.WriteBackStep{Act: "field", Name: "a\r\nb", Of: "finding"}, "steps[0].name", "give the field a name"},
		{pack.WriteBackStep{Act: "field", Name: "x", Of: "odds"}, "steps[0].of", "not \"odds\""},
		{pack.WriteBackStep{Act: "field", Name: "x", Of: "cause", Decisions: []string{"kept"}}, "steps[0].decisions", "\"kept\" is not a decision"},
		{pack.WriteBackStep{Act: "field", Name: "x", Of: "cause", Findings: []string{"good"}}, "steps[0].findings", "\"good\" is not a finding"},
	} {
		err := writeback.Check(pack.WriteBackSpec{Steps: []pack.WriteBackStep{of.step}}, takes)
		var wrong *problem.Field
		if of.want == "" && err != nil || of.want != "" && (!errors.As(err, &wrong) || wrong.Name != of.field || !strings.Contains(wrong.Why, of.want)) {
			t.Errorf("%+v: %v", of.step, err)
		}
	}
}

// TestOutcome counts what became of the items.
func TestOutcome(t *testing.T) {
	counts := []store.ItemCount{{Step: 0, State: store.ItemDone, Items: 1200}, {Step: 0, State: store.ItemSkipped, Items: 2}, {Step: 1, State: store.ItemFailed, Items: 1}}
	if got := writeback.Outcome(counts, false); got != "1,200 of 1,203 changes made. 2 skipped, since the contact had changed or gone. 1 not taken by the place." {
		t.Error(got)
	}
	counts = []store.ItemCount{{Step: 0, State: store.ItemUndone, Items: 9}, {Step: 0, State: store.ItemLeft, Items: 1}}
	if got := writeback.Outcome(counts, true); got != "9 of 10 changes undone. 1 could not be undone." {
		t.Error(got)
	}
}
