package workshop

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"varnet/core/catalogue"
	"varnet/core/sheet"
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
		made, err := Take(numbered(10), c.s)
		got := collect(t, made, err)
		if strings.Join(got, " ") != c.want {
			t.Errorf("%+v: %q, want %q", c.s, got, c.want)
		}
	}
	draw := func(seed uint64) []string {
		made, err := Take(numbered(1000), Slice{From: 101, Sample: 50, Seed: seed})
		return collect(t, made, err)
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
		if _, err := Take(numbered(1), bad); err == nil {
			t.Errorf("%+v was taken", bad)
		}
	}
}

// TestSample: every row is drawn as often as any other.
func TestSample(t *testing.T) {
	times := map[string]int{}
	for seed := range uint64(2000) {
		made, err := Take(numbered(20), Slice{Sample: 5, Seed: seed})
		for _, n := range collect(t, made, err) {
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
	people := table("people", []string{"name", "joined", "spent", "mail"},
		[]string{"Ada Moss", "2026-03-01", "12.50", "info@orchard.example"}, []string{"wren", "2025-11-30", "3"}, []string{"Jonas", "", ""}, []string{"Bjørn", "2026-03-17", "1,2"}, []string{"", "yesterday", "-4"})
	people.Addresses, people.Kinds = []int{3}, []sheet.Kind{{Type: sheet.Text}, {Type: sheet.Date, Layout: time.DateOnly}}
	with := Env{Now: time.Date(2026, 3, 20, 0, 0, 0, 0, time.UTC), Catalogue: catalogue.Default()}
	for _, c := range []struct {
		conditions []Condition
		any        bool
		want       string
	}{
		{nil, false, "Ada Moss,wren,Jonas,Bjørn,"},
		{nil, true, "Ada Moss,wren,Jonas,Bjørn,"},
		{[]Condition{{Column: "name", Test: Is, Values: []string{"WREN", " bjørn "}}}, false, "wren,Bjørn"},
		{[]Condition{{Column: "name", Test: Is, Values: []string{"wren"}, Not: true}}, false, "Ada Moss,Jonas,Bjørn,"},
		{[]Condition{{Column: "name", Test: Contains, Values: []string{"n"}}}, false, "wren,Jonas,Bjørn"},
		{[]Condition{{Column: "name", Test: Begins, Values: []string{"a", "j"}}}, false, "Ada Moss,Jonas"},
		{[]Condition{{Column: "name", Test: Empty, Values: []string{}}}, false, ""},
		{[]Condition{{Column: "name", Test: Pattern, Values: []string{"^[a-w]{3}\\b"}}}, false, "Ada Moss"},
		{[]Condition{{Column: "joined", Test: Dates, Values: []string{"2026-03-01", "2026-03-17"}}}, false, "Ada Moss,Bjørn"},
		{[]Condition{{Column: "joined", Test: Dates, Values: []string{"", "2026-02-28"}}}, false, "wren"},
		{[]Condition{{Column: "joined", Test: Dates, Values: []string{"", "2026-02-28"}, Not: true}}, false, "Ada Moss,Bjørn"},
		{[]Condition{{Column: "joined", Test: LastDays, Values: []string{"10"}}}, false, "Bjørn"},
		{[]Condition{{Column: "joined", Test: InMonth, Values: []string{"11", "12"}}}, false, "wren"},
		{[]Condition{{Column: "spent", Test: Between, Values: []string{"3", "100"}}}, false, "Ada Moss,wren"},
		{[]Condition{{Column: "spent", Test: Between, Values: []string{"", "0"}}}, false, ""},
		{[]Condition{{Column: "joined", Test: InMonth, Values: []string{"3"}}, {Column: "spent", Test: Between, Values: []string{"1", "2"}}}, false, "Bjørn"},
		{[]Condition{{Fact: FactTrait, Test: Is, Values: []string{"role"}}}, false, "Ada Moss"},
		{[]Condition{{Fact: FactDomain, Test: Is, Values: []string{"orchard.example"}, Not: true}}, false, "wren,Jonas,Bjørn,"},
		{[]Condition{{Fact: FactFinding, Test: Empty}}, false, "Ada Moss,wren,Jonas,Bjørn,"},
		{[]Condition{{Column: "joined", Test: InMonth, Values: []string{"11"}}, {Column: "name", Test: Is, Values: []string{"Jonas"}}}, true, "wren,Jonas"},
	} {
		made, err := Where(people, c.conditions, c.any, with)
		if err != nil {
			t.Fatalf("%+v: %v", c.conditions, err)
		}
		var names []string
		for _, r := range rowsOf(t, made) {
			names = append(names, r[0])
		}
		if got := strings.Join(names, ","); got != c.want {
			t.Errorf("%+v: %v: %q, want %q", c.conditions, err, got, c.want)
		}
	}
	for _, bad := range []Condition{{Column: "age", Test: Is, Values: []string{"a"}}, {Column: "name", Test: "like"}, {Column: "name", Test: Is}, {Column: "name", Test: Pattern, Values: []string{"("}}, {Column: "joined", Test: Dates, Values: []string{"1.3.2026", ""}}, {Column: "spent", Test: Between, Values: []string{"1"}}, {Column: "joined", Test: LastDays, Values: []string{"0"}}, {Column: "joined", Test: InMonth, Values: []string{"13"}}} {
		if _, err := Where(people, []Condition{bad}, false, with); err == nil {
			t.Errorf("%+v was taken", bad)
		}
	}
}

func TestProfiles(t *testing.T) {
	people := table("people", []string{"town", "no.", "joined"}, []string{"Nether Moss", "1", "2026-03-01"}, []string{"Nether Moss", "2", "soon"}, []string{"", "3", "2024-12-31"}, []string{"Ås", "4"}, []string{"Ås"}, []string{"Nether Moss", "6"})
	p, err := Profiles(people)
	if err != nil || p[0].Rows != 6 || p[0].Empty != 1 || p[0].Distinct != 2 || !p[0].Exact || p[0].Shortest != 2 || p[0].Longest != 11 ||
		!slices.Equal(p[0].Most, []Count{{"Nether Moss", 3}, {"Ås", 2}}) || p[1].Empty != 1 || p[1].Distinct != 5 || len(p[1].Most) != 0 {
		t.Errorf("%v: %+v", err, p)
	}
	if d := p[2]; d.Dates != 2 || d.First.Format(time.DateOnly) != "2024-12-31" || d.Last.Format(time.DateOnly) != "2026-03-01" {
		t.Errorf("dates: %+v", d)
	}
}
