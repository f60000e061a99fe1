package store_test

import (
	"slices"
	"testing"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/internal/store"
)

// TestSearch finds the same by the texts of a list as by its rows.
func TestSearch(t *testing.T) {
	s := open(t)
	run := newRun(t, s, workspace(t, s, "seed library"), 5000)
	var results []store.Concluded
	for n := range int32(5000) {
		cause := finding.MailboxAccepted
		if n%7 == 0 {
			cause = finding.MailboxAbsent
		}
		results = append(results, store.Concluded{Address: n + 1, Verdict: finding.ConcludeFrom(cause, nil)})
	}
	if err := s.KnowVerdicts(t.Context(), results); err != nil {
		t.Fatal(err)
	}
	if err := s.InTx(t.Context(), func(s *store.Store, _ pgx.Tx) error { return s.AddResults(t.Context(), run.ID, results) }); err != nil {
		t.Fatal(err)
	}
	verdicts, err := s.Verdicts(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var absent []int32
	for id, v := range verdicts {
		if v.Cause == finding.MailboxAbsent {
			absent = append(absent, id)
		}
	}
	look := func() (pages [][]int32) {
		for _, f := range []store.ResultFilter{{Search: "a12"}, {Search: "A4999@FERN"}, {Search: "fernhollow"}, {Search: "no such text"}, {Search: "a_1"},
			{Search: "99", After: 1999}, {Search: "99", Verdicts: absent}, {Search: "%"}, {Search: "4@f", Verdicts: []int32{}}} {
			f.Limit = 100
			found, err := s.Results(t.Context(), run, f)
			if err != nil {
				t.Fatal(err)
			}
			page := []int32{}
			for _, r := range found {
				page = append(page, r.Address)
			}
			pages = append(pages, page)
		}
		return pages
	}
	byRows := look()
	if len(byRows[0]) != 100 || len(byRows[1]) != 1 || len(byRows[3])+len(byRows[4])+len(byRows[7])+len(byRows[8]) != 0 {
		t.Errorf("found by the rows: %v", byRows)
	}
	if err := s.MakeTexts(t.Context(), run.ListID); err != nil {
		t.Fatal(err)
	}
	for i, page := range look() {
		if !slices.Equal(page, byRows[i]) {
			t.Errorf("search %d: by the texts %v, by the rows %v", i, page, byRows[i])
		}
	}
}
