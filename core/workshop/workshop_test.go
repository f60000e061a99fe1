package workshop

import (
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// table is rows in memory, as a table.
func table(name string, columns []string, rows ...[]string) Table {
	return Table{Name: name, Columns: columns, Rows: func() iter.Seq2[Row, error] {
		return func(yield func(Row, error) bool) {
			for _, r := range rows {
				if !yield(NewRow(r), nil) {
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
	if err := tab.each(func(_ int64, r Row) error { all = append(all, slices.Clone(r.Cells())); return nil }); err != nil {
		t.Fatal(err)
	}
	return all
}

// spill is one that holds few records in memory, so that the files of one that holds more are
// tried, too.
func spill(t *testing.T) *Spill {
	s := &Spill{dir: t.TempDir(), most: 64}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// collect reads what an operation makes as lines, twice: it is the same each time.
func collect(t *testing.T, made Table, err error) (lines []string) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rowsOf(t, made) {
		lines = append(lines, line(r))
	}
	again := 0
	for _, r := range rowsOf(t, made) {
		if again == len(lines) || lines[again] != line(r) {
			t.Fatalf("read again, row %d is %q", again+1, r)
		}
		again++
	}
	if again != len(lines) {
		t.Fatalf("read again there are %d rows, not %d", again, len(lines))
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
	for seed := range uint64(8) {
		rng := rand.New(rand.NewPCG(seed, 7))
		a, b := random(rng, "a", rng.IntN(60)), random(rng, "b", rng.IntN(60))
		for _, m := range matches() {
			tables, both, s := []Table{a, b}, []Match{m, m}, spill(t)
			made, err := Without(s, tables, both)
			without := collect(t, made, err)
			made, err = Both(s, tables, both)
			common := collect(t, made, err)
			var all []string
			for _, r := range rowsOf(t, a) {
				all = append(all, line(r))
			}
			if got := sorted(append(slices.Clone(without), common...)); !slices.Equal(got, sorted(all)) {
				t.Fatalf("seed %d, %+v: without and both are not a partition:\n%q\n%q", seed, m, got, sorted(all))
			}
			if naive := naiveWithout(t, a, b, m); !slices.Equal(naive, without) {
				t.Fatalf("seed %d, %+v: without:\n%q\n%q", seed, m, without, naive)
			}
			holdBothOfThree(t, seed, m)
			holdMerge(t, seed, tables, m)
			holdDuplicates(t, seed, a, m)
		}
	}
}

func sorted(lines []string) []string { slices.Sort(lines); return lines }

func keysOf(m Match, cells []string) []key { return m.keys(NewRow(cells), nil) }

// naiveWithout compares every row with every other.
func naiveWithout(t *testing.T, a, b Table, m Match) (lines []string) {
	others := rowsOf(t, b)
	for _, r := range rowsOf(t, a) {
		if !slices.ContainsFunc(others, func(o []string) bool { return meet(keysOf(m, r), keysOf(m, o)) }) {
			lines = append(lines, line(r))
		}
	}
	return lines
}

func meet(a, b []key) bool {
	return slices.ContainsFunc(a, func(k key) bool { return slices.Contains(b, k) })
}

// holdBothOfThree: a row that is in both others, by whichever of its keys.
func holdBothOfThree(t *testing.T, seed uint64, m Match) {
	t.Helper()
	rng := rand.New(rand.NewPCG(seed, 13))
	tables := []Table{random(rng, "a", 40), random(rng, "b", 40), random(rng, "c", 40)}
	made, err := Both(spill(t), tables, []Match{m, m, m})
	got := collect(t, made, err)
	var want []string
	second, third := rowsOf(t, tables[1]), rowsOf(t, tables[2])
	for _, r := range rowsOf(t, tables[0]) {
		in := func(rows [][]string) bool {
			return slices.ContainsFunc(rows, func(o []string) bool { return meet(keysOf(m, r), keysOf(m, o)) })
		}
		if in(second) && in(third) {
			want = append(want, line(r))
		}
	}
	if !slices.Equal(got, want) {
		t.Fatalf("seed %d, %+v: both of three:\n%q\n%q", seed, m, got, want)
	}
}

func holdDuplicates(t *testing.T, seed uint64, a Table, m Match) {
	t.Helper()
	made, err := Duplicates(spill(t), a, m)
	got := collect(t, made, err)
	var want []string
	rows := rowsOf(t, a)
	for i, r := range rows {
		others := slices.Delete(slices.Clone(rows), i, i+1)
		if slices.ContainsFunc(others, func(o []string) bool { return meet(keysOf(m, r), keysOf(m, o)) }) {
			want = append(want, line(r))
		}
	}
	if !slices.Equal(got, want) {
		t.Fatalf("seed %d, %+v: duplicates:\n%q\n%q", seed, m, got, want)
	}
}

// merged merges tables by the same match.
func merged(t *testing.T, tables []Table, m Match, keep Keep) (Joined, []string) {
	t.Helper()
	j, err := Join(tables, nil)
	if err != nil {
		t.Fatal(err)
	}
	ms := make([]Match, len(tables))
	for i := range ms {
		ms[i] = m
	}
	made, err := Merge(spill(t), tables, Merging{Matches: ms, Joined: j, Keep: keep})
	return j, collect(t, made, err)
}

// holdMerge: three tables merged at once and one by one are the same, each first key comes once,
// empty cells are filled as by hand, and rows in one table alone are those that nothing meets.
func holdMerge(t *testing.T, seed uint64, tables []Table, m Match) {
	t.Helper()
	j, two := merged(t, tables, m, KeepFirst)
	third := random(rand.New(rand.NewPCG(seed, 11)), "c", 30)
	three := []Table{tables[0], tables[1], third}
	_, atOnce := merged(t, three, m, KeepFirst)
	if _, oneByOne := merged(t, []Table{table("merged", j.Columns, cut(two)...), third}, m, KeepFirst); !slices.Equal(oneByOne, atOnce) {
		t.Fatalf("seed %d, %+v: one by one and at once differ:\n%q\n%q", seed, m, oneByOne, atOnce)
	}
	if want := naiveMerge(t, j, tables, m, false); !slices.Equal(two, want) {
		t.Fatalf("seed %d, %+v: merged:\n%q\n%q", seed, m, two, want)
	}
	if _, filled := merged(t, tables, m, KeepFilled); !slices.Equal(filled, naiveMerge(t, j, tables, m, true)) {
		t.Fatalf("seed %d, %+v: filled:\n%q\n%q", seed, m, filled, naiveMerge(t, j, tables, m, true))
	}
	made, err := OnlyOne(spill(t), tables, []Match{m, m}, j)
	only := collect(t, made, err)
	var want []string
	for n, other := range []Table{tables[1], tables[0]} {
		for _, w := range naiveWithout(t, tables[n], other, m) {
			want = append(want, line(j.row(n, NewRow(strings.Split(w, "\x1f"))).cells))
		}
	}
	if !slices.Equal(only, want) {
		t.Fatalf("seed %d, %+v: in one alone:\n%q\n%q", seed, m, only, want)
	}
}

// naiveMerge looks at every row before.
func naiveMerge(t *testing.T, j Joined, tables []Table, m Match, fills bool) (lines []string) {
	var rows [][]string
	at := map[key]int{}
	for n, tab := range tables {
		for _, r := range rowsOf(t, tab) {
			cells, keys := j.row(n, NewRow(r)).cells, keysOf(m, r)
			if len(keys) > 0 {
				if first, there := at[keys[0]]; there {
					for i := range cells {
						if fills && empty(rows[first][i]) && !empty(cells[i]) {
							rows[first][i] = cells[i]
						}
					}
					continue
				}
				at[keys[0]] = len(rows)
			}
			rows = append(rows, cells)
		}
	}
	for _, r := range rows {
		lines = append(lines, line(r))
	}
	return lines
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
	b := table("guests", []string{"name", "e_mail", "Joined", "Town"}, []string{"Wren", "wren@orchard.example", "2026-03-01", "Nether Moss", "past"}, []string{"Ada M.", "ADA@orchard.example", "2026-04-01", "Upper Loam"})
	m := []Match{{By: ByAddress, Columns: []int{0}}, {By: ByAddress, Columns: []int{1}}}
	tables := []Table{a, b}
	j, err := Join(tables, nil)
	if err != nil || !slices.Equal(j.Columns, []string{"E-mail", "Name", "Joined", "Town"}) {
		t.Fatalf("%v: %q", err, j.Columns)
	}
	made, err := Merge(spill(t), tables, Merging{Matches: m, Joined: j, Keep: KeepFirst})
	if got, want := collect(t, made, err), []string{line([]string{"ada@orchard.example", "Ada", "", ""}), line([]string{"wren@orchard.example", "Wren", "2026-03-01", "Nether Moss", "past"})}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	made, err = Merge(spill(t), tables, Merging{Matches: m, Joined: j, Keep: KeepNewest, Dates: []int{-1, 2}})
	if got, want := collect(t, made, err), []string{line([]string{"wren@orchard.example", "Wren", "2026-03-01", "Nether Moss", "past"}), line([]string{"ADA@orchard.example", "Ada M.", "2026-04-01", "Upper Loam"})}; !slices.Equal(got, want) {
		t.Errorf("the newest: %q", got)
	}
	j, err = Join(tables, []Alias{{"Town", "Name"}})
	if err != nil || !slices.Equal(j.Columns, []string{"E-mail", "Name", "name", "Joined"}) || j.From[1][3] != 1 {
		t.Errorf("by hand: %v: %+v", err, j)
	}
	if _, err := Join(tables, []Alias{{"Town", "Village"}}); err == nil {
		t.Error("a column that there is not was taken")
	}
	other := table("letters", []string{"Mail address"}, []string{"jonas@orchard.example"})
	a.Addresses, other.Addresses = []int{0}, []int{0}
	if j, err = Join([]Table{a, other}, nil); err != nil || len(j.Columns) != 2 || j.From[1][0] != 0 {
		t.Errorf("addresses under another name: %v: %+v", err, j)
	}
}

// TestOnePerDomain keeps the first of each domain, and all rows without an address.
func TestOnePerDomain(t *testing.T) {
	a := table("members", []string{"E-mail"}, []string{"ada@orchard.example"}, []string{"wren@Orchard.example"}, []string{""}, []string{"jonas@attic.example"}, []string{"nobody"})
	m := Match{By: ByDomain, Columns: []int{0}}
	made, err := OnePer(spill(t), a, m)
	if got := collect(t, made, err); !slices.Equal(got, []string{"ada@orchard.example", "", "jonas@attic.example", "nobody"}) {
		t.Errorf("%q", got)
	}
	made, err = Duplicates(spill(t), a, m)
	if got := collect(t, made, err); !slices.Equal(got, []string{"ada@orchard.example", "wren@Orchard.example"}) {
		t.Errorf("%q", got)
	}
}

func TestWrongMatches(t *testing.T) {
	a := table("members", []string{"E-mail"})
	for name, m := range map[string]Match{"no column": {By: ByAddress}, "one that there is not": {By: ByAddress, Columns: []int{1}}, "no way": {By: "name", Columns: []int{0}}} {
		if _, err := Without(spill(t), []Table{a, a}, []Match{m, m}); err == nil || !strings.Contains(err.Error(), "members") && name != "no way" {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Without(spill(t), []Table{a}, []Match{{By: ByExact, Columns: []int{0}}}); err == nil {
		t.Error("one list was taken for two")
	}
}
