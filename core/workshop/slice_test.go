package workshop

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

func numbered(n int) Table {
	var rows [][]string
	for i := range n {
		rows = append(rows, []string{fmt.Sprint(i + 1)})
	}
	return table("numbers", []string{"n"}, rows...)
}

func TestTake(t *testing.T) {
	for _, c := range []struct {
		s    Slice
		want string
	}{
		{Slice{}, "1 2 3 4 5 6 7 8 9 10"},
		{Slice{To: 3}, "1 2 3"},
		{Slice{Last: 3}, "8 9 10"},
		{Slice{From: 4, To: 6}, "4 5 6"},
		{Slice{Every: 4}, "1 5 9"},
		{Slice{From: 2, Every: 3}, "2 5 8"},
		{Slice{Last: 4, Every: 2}, "7 9"},
		{Slice{From: 11}, ""},
		{Slice{Sample: 20}, "1 2 3 4 5 6 7 8 9 10"},
	} {
		got := collect(t, func(out Out) (Report, error) { return Take(numbered(10), c.s, out) })
		if strings.Join(got, " ") != c.want {
			t.Errorf("%+v: %q, want %q", c.s, got, c.want)
		}
	}
	draw := func(seed uint64) []string {
		return collect(t, func(out Out) (Report, error) {
			return Take(numbered(1000), Slice{From: 101, Sample: 50, Seed: seed}, out)
		})
	}
	one, other := draw(1), draw(2)
	if !slices.Equal(one, draw(1)) || slices.Equal(one, other) || len(one) != 50 {
		t.Errorf("samples: %d, %q, %q", len(one), one, other)
	}
	for _, n := range one {
		if len(n) < 3 {
			t.Errorf("row %s is not in the slice", n)
		}
	}
	for _, bad := range []Slice{{From: -1}, {From: 5, To: 4}} {
		if _, err := Take(numbered(1), bad, nil); err == nil {
			t.Errorf("%+v was taken", bad)
		}
	}
}

// TestSample: every row is drawn as often as any other.
func TestSample(t *testing.T) {
	times := map[string]int{}
	for seed := range uint64(2000) {
		for _, n := range collect(t, func(out Out) (Report, error) { return Take(numbered(20), Slice{Sample: 5, Seed: seed}, out) }) {
			times[n]++
		}
	}
	for n, got := range times {
		if got < 400 || got > 600 { // 500 expected, with a standard deviation of 19
			t.Errorf("row %s was drawn %d times of 2,000", n, got)
		}
	}
}

func TestWhere(t *testing.T) {
	people := table("people", []string{"name", "joined", "spent"},
		[]string{"Ada Moss", "2026-03-01", "12.50"}, []string{"wren", "2025-11-30", "3"}, []string{"Jonas", "", ""}, []string{"Bjørn", "2026-03-17", "1,200"}, []string{"", "yesterday", "-4"})
	number := func(cell string) (float64, bool) {
		n, err := strconv.ParseFloat(strings.ReplaceAll(cell, ",", ""), 64)
		return n, err == nil
	}
	readers := Readers{Number: number, Now: time.Date(2026, 3, 20, 0, 0, 0, 0, time.UTC),
		Date: func(cell string) (time.Time, bool) { at, err := time.Parse(time.DateOnly, cell); return at, err == nil }}
	for _, c := range []struct {
		conditions []Condition
		any        bool
		want       string
	}{
		{nil, false, "Ada Moss,wren,Jonas,Bjørn,"},
		{nil, true, "Ada Moss,wren,Jonas,Bjørn,"},
		{[]Condition{{0, Is, []string{"WREN", " bjørn "}, false}}, false, "wren,Bjørn"},
		{[]Condition{{0, Is, []string{"wren"}, true}}, false, "Ada Moss,Jonas,Bjørn,"},
		{[]Condition{{0, Contains, []string{"n"}, false}}, false, "wren,Jonas,Bjørn"},
		{[]Condition{{0, Begins, []string{"a", "j"}, false}}, false, "Ada Moss,Jonas"},
		{[]Condition{{0, Empty, nil, false}}, false, ""},
		{[]Condition{{0, Pattern, []string{"^[a-w]{3}\\b"}, false}}, false, "Ada Moss"},
		{[]Condition{{1, Dates, []string{"2026-03-01", "2026-03-17"}, false}}, false, "Ada Moss,Bjørn"},
		{[]Condition{{1, Dates, []string{"", "2026-02-28"}, false}}, false, "wren"},
		{[]Condition{{1, Dates, []string{"", "2026-02-28"}, true}}, false, "Ada Moss,Bjørn"},
		{[]Condition{{1, LastDays, []string{"10"}, false}}, false, "Bjørn"},
		{[]Condition{{1, InMonth, []string{"11", "12"}, false}}, false, "wren"},
		{[]Condition{{2, Between, []string{"3", "100"}, false}}, false, "Ada Moss,wren"},
		{[]Condition{{2, Between, []string{"", "0"}, false}}, false, ""},
		{[]Condition{{1, InMonth, []string{"3"}, false}, {2, Between, []string{"100", ""}, false}}, false, "Bjørn"},
		{[]Condition{{1, InMonth, []string{"11"}, false}, {0, Is, []string{"Jonas"}, false}}, true, "wren,Jonas"},
	} {
		var names []string
		r, err := Where(people, c.conditions, c.any, readers, func(row []string) error { names = append(names, row[0]); return nil })
		if got := strings.Join(names, ","); err != nil || got != c.want || r.Kept != int64(len(names)) {
			t.Errorf("%+v: %v: %q, want %q", c.conditions, err, got, c.want)
		}
	}
	for _, bad := range []Condition{{9, Is, []string{"a"}, false}, {0, "like", nil, false}, {0, Is, nil, false}, {0, Pattern, []string{"("}, false}, {1, Dates, []string{"1.3.2026", ""}, false}, {2, Between, []string{"1"}, false}, {1, LastDays, []string{"0"}, false}, {1, InMonth, []string{"13"}, false}} {
		if _, err := Where(people, []Condition{bad}, false, readers, nil); err == nil {
			t.Errorf("%+v was taken", bad)
		}
	}
}

func TestProfiles(t *testing.T) {
	people := table("people", []string{"town", "no."}, []string{"Nether Moss", "1"}, []string{"Nether Moss", "2"}, []string{"", "3"}, []string{"Ås", "4"}, []string{"Ås"}, []string{"Nether Moss", "6"})
	p, err := Profiles(people)
	if err != nil || p[0].Rows != 6 || p[0].Empty != 1 || p[0].Distinct != 2 || !p[0].Exact || p[0].Shortest != 2 || p[0].Longest != 11 ||
		!slices.Equal(p[0].Most, []Count{{"Nether Moss", 3}, {"Ås", 2}}) || p[1].Empty != 1 || p[1].Distinct != 5 || len(p[1].Most) != 0 {
		t.Errorf("%v: %+v", err, p)
	}
}
