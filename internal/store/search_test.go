package store_test

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/internal/store"
)

// TestSearch finds address cells by a part of them.
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
	first := func(n int, fits func(int32) bool) (out []int32) {
		for a := int32(1); a <= 5000 && len(out) < n; a++ {
			if fits(a) {
				out = append(out, a)
			}
		}
		return out
	}
	has := func(a int32, text string) bool { return strings.Contains(fmt.Sprintf("a%d@", a), text) }
	for i, want := range [][]int32{
		first(100, func(a int32) bool { return has(a, "a12") }), {4999}, first(100, func(int32) bool { return true }), {}, {},
		first(100, func(a int32) bool { return a > 1999 && has(a, "99") }), first(100, func(a int32) bool { return a%7 == 1 && has(a, "99") }), {}, {},
	} {
		if page := look()[i]; !slices.Equal(page, want) {
			t.Errorf("search %d: %v; want %v", i, page, want)
		}
	}
	// Blocks from before schema 51 have no grams and are read; those that have grams are read only where these allow it.
	before := look()
	set := func(sql string) [][]int32 {
		if _, err := s.Pool().Exec(t.Context(), "UPDATE row_block SET grams = "+sql); err != nil {
			t.Fatal(err)
		}
		return look()
	}
	if pages := set("CASE WHEN last % 1000 > 0 THEN NULL ELSE grams END"); !reflect.DeepEqual(pages, before) {
		t.Errorf("with grams in every other block: %v, not %v", pages, before)
	}
	if pages := set("decode(repeat('00', length(grams)), 'hex')"); len(pages[1]) > 0 || !slices.Equal(pages[5], before[5]) {
		t.Errorf("a block without the sequences is read: %v; short texts: %v", pages[1], pages[5])
	}
}
