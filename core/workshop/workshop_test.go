package workshop

import (
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

// table is rows in memory, as a table.
func table(name string, columns []string, rows ...[]string) Table {
	return Table{name, columns, func() iter.Seq2[[]string, error] {
		return func(yield func([]string, error) bool) {
			for _, r := range rows {
				if !yield(slices.Clone(r), nil) {
					return
				}
			}
		}
	}}
}

// random is a table of some rows: few people, so that many are met again; odd cells, and rows
// that are shorter or longer than the others.
func random(rng *rand.Rand, name string, rows int) Table {
	var all [][]string
	for range rows {
		address := fmt.Sprintf("%s%d@%s", []string{"ada", "Ada", "wren", "bjørn"}[rng.IntN(4)], rng.IntN(12), []string{"orchard.example", "Attic.example"}[rng.IntN(2)])
		switch rng.IntN(12) {
		case 0:
			address = ""
		case 1:
			address = "no address"
		case 2:
			address = " <" + address + ">"
		}
		row := []string{fmt.Sprintf("00%d", rng.IntN(20)), address, fmt.Sprintf("+%d (0)%d", rng.IntN(3), rng.IntN(9)), fmt.Sprintf("%s\n%d", "a \"cell\"; with, all", rng.IntN(5))}
		if rng.IntN(4) == 0 {
			row = append(row, fmt.Sprintf("more%d@orchard.example", rng.IntN(6)))
		}
		all = append(all, row[:len(row)-rng.IntN(2)])
	}
	return table(name, []string{"No.", "E-mail", "Phone", "Note", "second e-mail"}, all...)
}

func rowsOf(t *testing.T, tab Table) (all [][]string) {
	t.Helper()
	for row, err := range tab.Rows() {
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, row)
	}
	return all
}

// collect runs an operation and returns its rows as lines.
func collect(t *testing.T, do func(Out) (Report, error)) (lines []string) {
	t.Helper()
	r, err := do(func(row []string) error { lines = append(lines, line(row)); return nil })
	if err != nil || r.Kept != int64(len(lines)) {
		t.Fatalf("%v: %+v, and %d rows came", err, r, len(lines))
	}
	return lines
}

func line(row []string) string { return strings.Join(row, "\x1f") }

func matches() []Match {
	return []Match{{By: ByAddress, Columns: []int{1}}, {By: ByAddress, Columns: []int{1, 4}}, {By: ByDomain, Columns: []int{1}}, {By: ByExact, Columns: []int{0}},
		{By: ByLoose, Columns: []int{3}}, {By: ByDigits, Columns: []int{2}}, {By: ByLoose, Columns: []int{0, 2}, Together: true}}
}

// TestPartitions holds on random tables: without and both are a partition of the first table;
// merged rows and the rows left out are one of all; cells are those of the tables.
func TestPartitions(t *testing.T) {
	for seed := range uint64(20) {
		rng := rand.New(rand.NewPCG(seed, 7))
		a, b := random(rng, "a", rng.IntN(60)), random(rng, "b", rng.IntN(60))
		for _, m := range matches() {
			tables, both := []Table{a, b}, []Match{m, m}
			without := collect(t, func(out Out) (Report, error) { return Without(tables, both, out) })
			common := collect(t, func(out Out) (Report, error) { return Both(tables, both, out) })
			var all []string
			for _, r := range rowsOf(t, a) {
				all = append(all, line(r))
			}
			if got := sorted(append(slices.Clone(without), common...)); !slices.Equal(got, sorted(all)) {
				t.Fatalf("seed %d, %+v: without and both are no partition:\n%q\n%q", seed, m, got, sorted(all))
			}
			if naive := naiveWithout(t, a, b, m); !slices.Equal(naive, without) {
				t.Fatalf("seed %d, %+v: without:\n%q\n%q", seed, m, without, naive)
			}
			holdMerge(t, seed, tables, m)
		}
	}
}

func sorted(lines []string) []string { slices.Sort(lines); return lines }

// naiveWithout compares every row with every other.
func naiveWithout(t *testing.T, a, b Table, m Match) (lines []string) {
	others := rowsOf(t, b)
	for _, r := range rowsOf(t, a) {
		if !slices.ContainsFunc(others, func(o []string) bool { return meet(m.keys(r), m.keys(o)) }) {
			lines = append(lines, line(r))
		}
	}
	return lines
}

func meet(a, b []key) bool {
	return slices.ContainsFunc(a, func(k key) bool { return slices.Contains(b, k) })
}

// holdMerge: three tables merged at once and one by one are the same, each first key comes once, and what is
// merged, without what is in one alone, are the rows that met.
func holdMerge(t *testing.T, seed uint64, tables []Table, m Match) {
	t.Helper()
	ms := []Match{m, m}
	j, err := Join(tables, nil)
	if err != nil || len(j.Columns) != 5 {
		t.Fatalf("%v: %q", err, j.Columns)
	}
	merged := collect(t, func(out Out) (Report, error) { return Merge(tables, ms, j, nil, out) })
	third := random(rand.New(rand.NewPCG(seed, 11)), "c", 30)
	three := []Table{tables[0], tables[1], third}
	all, err := Join(three, nil)
	if err != nil {
		t.Fatal(err)
	}
	atOnce := collect(t, func(out Out) (Report, error) { return Merge(three, []Match{m, m, m}, all, nil, out) })
	both := table("merged", j.Columns, cut(merged)...)
	if oneByOne := collect(t, func(out Out) (Report, error) { return Merge([]Table{both, third}, ms, j, nil, out) }); !slices.Equal(oneByOne, atOnce) {
		t.Fatalf("seed %d, %+v: one by one and at once differ:\n%q\n%q", seed, m, oneByOne, atOnce)
	}
	seen, count := map[key]bool{}, 0
	for _, tab := range tables {
		for _, r := range rowsOf(t, tab) {
			keys := m.keys(r)
			if len(keys) == 0 || !seen[keys[0]] {
				count++
			}
			if len(keys) > 0 {
				seen[keys[0]] = true
			}
		}
	}
	if len(merged) != count {
		t.Fatalf("seed %d, %+v: %d rows are merged, and should be %d", seed, m, len(merged), count)
	}
	only := collect(t, func(out Out) (Report, error) { return OnlyOne(tables, ms, j, out) })
	for n, tab := range tables {
		var want []string
		if n == 0 {
			want = naiveWithout(t, tab, tables[1], m)
		} else {
			want = naiveWithout(t, tab, tables[0], m)
		}
		for _, w := range want {
			if padded := line(j.row(n, strings.Split(w, "\x1f"))); !slices.Contains(only, padded) {
				t.Fatalf("seed %d, %+v: %q is in one alone, and is missing", seed, m, padded)
			}
		}
	}
}

func cut(lines []string) (rows [][]string) {
	for _, l := range lines {
		rows = append(rows, strings.Split(l, "\x1f"))
	}
	return rows
}

// TestMergeColumns: columns come together by their names, however they are written, or by hand;
// none is lost.
func TestMergeColumns(t *testing.T) {
	a := table("members", []string{"E-mail", "Name"}, []string{"ada@orchard.example", "Ada"})
	b := table("guests", []string{"name", "e_mail", "Joined", "Town"}, []string{"Wren", "wren@orchard.example", "2026-03-01", "Nether Moss"}, []string{"Ada M.", "ADA@orchard.example", "2026-04-01", "Upper Loam"})
	m := []Match{{By: ByAddress, Columns: []int{0}}, {By: ByAddress, Columns: []int{1}}}
	j, err := Join([]Table{a, b}, nil)
	if err != nil || !slices.Equal(j.Columns, []string{"E-mail", "Name", "Joined", "Town"}) {
		t.Fatalf("%v: %q", err, j.Columns)
	}
	got := collect(t, func(out Out) (Report, error) { return Merge([]Table{a, b}, m, j, nil, out) })
	if want := []string{line([]string{"ada@orchard.example", "Ada", "", ""}), line([]string{"wren@orchard.example", "Wren", "2026-03-01", "Nether Moss"})}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	day := func(cell string) (time.Time, bool) { at, err := time.Parse("2006-01-02", cell); return at, err == nil }
	got = collect(t, func(out Out) (Report, error) {
		return Merge([]Table{a, b}, m, j, &Newest{[]int{-1, 2}, day}, out)
	})
	if want := []string{line([]string{"wren@orchard.example", "Wren", "2026-03-01", "Nether Moss"}), line([]string{"ADA@orchard.example", "Ada M.", "2026-04-01", "Upper Loam"})}; !slices.Equal(got, want) {
		t.Errorf("the newest: %q", got)
	}
	j, err = Join([]Table{a, b}, map[int]map[int]int{1: {3: 1}})
	if err != nil || !slices.Equal(j.Columns, []string{"E-mail", "Name", "name", "Joined"}) || j.From[1][3] != 1 {
		t.Errorf("by hand: %v: %+v", err, j)
	}
	if _, err := Join([]Table{a, b}, map[int]map[int]int{1: {3: 9}}); err == nil {
		t.Error("a column that there is not was taken")
	}
}

// TestOnePerDomain keeps the first of each domain, and all rows without an address.
func TestOnePerDomain(t *testing.T) {
	a := table("members", []string{"E-mail"}, []string{"ada@orchard.example"}, []string{"wren@Orchard.example"}, []string{""}, []string{"jonas@attic.example"}, []string{"nobody"})
	m := Match{By: ByDomain, Columns: []int{0}}
	if got := collect(t, func(out Out) (Report, error) { return OnePer(a, m, out) }); !slices.Equal(got, []string{"ada@orchard.example", "", "jonas@attic.example", "nobody"}) {
		t.Errorf("%q", got)
	}
	if got := collect(t, func(out Out) (Report, error) { return Duplicates(a, m, out) }); !slices.Equal(got, []string{"ada@orchard.example", "wren@Orchard.example"}) {
		t.Errorf("%q", got)
	}
}

func TestWrongMatches(t *testing.T) {
	a := table("members", []string{"E-mail"})
	for name, m := range map[string]Match{"no column": {By: ByAddress}, "one that there is not": {By: ByAddress, Columns: []int{1}}, "no way": {By: "name", Columns: []int{0}}} {
		if _, err := Without([]Table{a, a}, []Match{m, m}, nil); err == nil || !strings.Contains(err.Error(), "members") && name != "no way" {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Without([]Table{a}, []Match{{By: ByExact, Columns: []int{0}}}, nil); err == nil {
		t.Error("one list was taken for two")
	}
}
