package workshop

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"varnet/core/catalogue"
)

// with is what recipes are made with in tests; others are the lists that they name.
func with(t *testing.T, others ...Table) Env {
	return Env{Spill: spill(t), Catalogue: catalogue.Default(), Now: time.Date(2026, 3, 20, 0, 0, 0, 0, time.UTC),
		Open: func(name string) (Table, error) {
			for _, o := range others {
				if o.Name == name {
					return o, nil
				}
			}
			return Table{}, errors.New("there is no list " + name)
		},
		Terms:   func(name string) ([]string, error) { return strings.Split(name, ","), nil },
		Country: func(ip string) string { return map[string]string{"192.0.2.7": "NO"}[ip] }}
}

func made(t *testing.T, r Recipe, first Table, others ...Table) (Made, []string) {
	t.Helper()
	m, err := r.Make(first, with(t, others...))
	if err != nil {
		t.Fatalf("%+v: %v", r, err)
	}
	return m, collect(t, m.Table, nil)
}

// TestStepsAtOnce: steps done at once and one by one, each on what the one before left, agree.
func TestStepsAtOnce(t *testing.T) {
	steps := Recipe{
		{Do: DoMerge, With: []string{"b"}, Keep: KeepFilled},
		{Do: DoWithout, With: []string{"c"}, By: ByLoose, Columns: []string{"note"}},
		{Do: DoOnly, With: []string{"c"}, By: ByDigits, Columns: []string{"phone"}},
		{Do: DoTidy, Changes: []Change{{Do: Trim, Columns: []string{"E-mail"}}, {Do: DomainPart, To: "At"}, {Do: DropColumns, Columns: []string{"Note"}}}},
		{Do: DoDuplicates, By: ByExact, Columns: []string{"At"}},
		{Do: DoSlice, Conditions: []Condition{{Column: "No.", Test: Between, Values: []string{"3", "17"}}}, Slice: Slice{Last: 9, Every: 2}},
		{Do: DoStrike, Terms: []string{"ada1"}, How: AsPart},
		{Do: DoOne, By: ByDomain},
	}
	for seed := range uint64(12) {
		rng := rand.New(rand.NewPCG(seed, 3))
		var others []Table
		for _, name := range []string{"a", "b", "c"} {
			one := random(rng, name, 10+rng.IntN(60))
			one.Addresses = []int{1, 4}
			others = append(others, one)
		}
		m, atOnce := made(t, steps, others[0], others...)
		now := others[0]
		for i, s := range steps {
			one, lines := made(t, Recipe{s}, now, others...)
			if m.Steps[i].Rows != int64(len(lines)) {
				t.Fatalf("seed %d: after step %d there are %d rows, and by themselves %d", seed, i+1, m.Steps[i].Rows, len(lines))
			}
			var rows [][]string
			if len(lines) > 0 {
				rows = cut(lines)
			}
			now = table("so far", one.Columns, rows...)
			now.Kinds, now.Addresses = one.Kinds, one.Addresses
			if i == len(steps)-1 && !slices.Equal(lines, atOnce) {
				t.Fatalf("seed %d: one by one and at once differ:\n%q\n%q", seed, lines, atOnce)
			}
		}
		if m.First.Rows != int64(len(rowsOf(t, others[0]))) || m.Others[0][0].Rows != int64(len(rowsOf(t, others[1]))) {
			t.Errorf("seed %d: %+v", seed, m.First)
		}
	}
}

// TestTidy goes through every change.
func TestTidy(t *testing.T) {
	people := table("people", []string{"Name", "E-mail", "Town", "IP"},
		[]string{"Dr. Ada Moss", "Ada.Moss@orchard.example", " Nether   Moss ", "192.0.2.7"},
		[]string{"Vale, Wren", "wren.vale@orchard.example", "ÅS", "192.0.2.8"},
		[]string{"Jan van der Berg", "jan.vanderberg@orchard.example"},
		[]string{"", "ida.fern@orchard.example", "Upper Loam", "no address"},
		[]string{"", "x@attic.example", "Upper Loam", "", "beyond"})
	people.Addresses = []int{1}
	for _, c := range []struct {
		change  Change
		columns string
		column  int
		want    string
	}{
		{Change{Do: Trim, Columns: []string{"town"}}, "Name,E-mail,Town,IP", 2, "Nether Moss|ÅS||Upper Loam|Upper Loam"},
		{Change{Do: Upper, Columns: []string{"Town"}}, "Name,E-mail,Town,IP", 2, " NETHER   MOSS |ÅS||UPPER LOAM|UPPER LOAM"},
		{Change{Do: Lower}, "Name,E-mail,Town,IP", 0, "dr. ada moss|vale, wren|jan van der berg||"},
		{Change{Do: Salutation, Columns: []string{"Town"}}, "Name,E-mail,Town,IP", 2, " Nether   Moss |Ås||Upper Loam|Upper Loam"},
		{Change{Do: Replace, Columns: []string{"Town"}, Find: "Upper", With: "Lower"}, "Name,E-mail,Town,IP", 2, " Nether   Moss |ÅS||Lower Loam|Lower Loam"},
		{Change{Do: Replace, Columns: []string{"Town"}, Find: `^\w+ (\w+)`, With: "$1", Pattern: true}, "Name,E-mail,Town,IP", 2, " Nether   Moss |ÅS||Loam|Loam"},
		{Change{Do: LocalPart}, "Name,E-mail,local-part,Town,IP", 2, "Ada.Moss|wren.vale|jan.vanderberg|ida.fern|x"},
		{Change{Do: DomainPart, To: "At"}, "Name,E-mail,At,Town,IP", 2, "orchard.example|orchard.example|orchard.example|orchard.example|attic.example"},
		{Change{Do: FirstName, Columns: []string{"Name"}, To: "First"}, "Name,First,E-mail,Town,IP", 1, "Ada|Wren|Jan|Ida|"},
		{Change{Do: LastName, Columns: []string{"Name"}, To: "Last"}, "Name,Last,E-mail,Town,IP", 1, "Moss|Vale|van der Berg|Fern|"},
		{Change{Do: CountryOf, Columns: []string{"IP"}, To: "Country"}, "Name,E-mail,Town,IP,Country", 4, "NO||||"},
		{Change{Do: SplitColumn, Columns: []string{"E-mail"}, Find: "@", To: "Local", Rest: "At"}, "Name,E-mail,Local,At,Town,IP", 3, "orchard.example|orchard.example|orchard.example|orchard.example|attic.example"},
		{Change{Do: JoinColumns, Columns: []string{"Town", "Name"}, To: "Both", With: " / "}, "Name,E-mail,Town,Both,IP", 3, " Nether   Moss  / Dr. Ada Moss|ÅS / Vale, Wren|Jan van der Berg|Upper Loam|Upper Loam"},
		{Change{Do: RenameColumn, Columns: []string{"Town"}, To: "Place"}, "Name,E-mail,Place,IP", 3, "192.0.2.7|192.0.2.8||no address|"},
		{Change{Do: OrderColumns, Columns: []string{"IP", "Town"}}, "IP,Town,Name,E-mail", 3, "Ada.Moss@orchard.example|wren.vale@orchard.example|jan.vanderberg@orchard.example|ida.fern@orchard.example|x@attic.example"},
		{Change{Do: DropColumns, Columns: []string{"Name", "Town"}}, "E-mail,IP", 0, "Ada.Moss@orchard.example|wren.vale@orchard.example|jan.vanderberg@orchard.example|ida.fern@orchard.example|x@attic.example"},
	} {
		m, _ := made(t, Recipe{{Do: DoTidy, Changes: []Change{c.change}}}, people)
		var got []string
		for _, r := range rowsOf(t, m.Table) {
			got = append(got, r[c.column])
		}
		if columns := strings.Join(m.Columns, ","); columns != c.columns || strings.Join(got, "|") != c.want {
			t.Errorf("%+v: %s: %q", c.change, columns, strings.Join(got, "|"))
		}
		if a := m.Addresses; len(a) != 1 || m.Columns[a[0]] != "E-mail" {
			t.Errorf("%+v: the addresses are in %v of %q", c.change, a, m.Columns)
		}
	}
}

// TestWrongSteps: what cannot be is said with its step and the remedy.
func TestWrongSteps(t *testing.T) {
	people := table("people", []string{"Name", "E-mail"}, []string{"Ada", "ada@orchard.example"})
	people.Addresses = []int{1}
	bare := table("bare", []string{"Name"}, []string{"Ada"})
	for want, s := range map[string]Step{
		"step 1 (mix): a step merges":      {Do: "mix"},
		"at least 2 lists":                 {Do: DoWithout},
		"there is no list gone":            {Do: DoWithout, With: []string{"gone"}},
		"no column to compare by":          {Do: DoWithout, With: []string{"bare"}},
		`no column "Telephone"`:            {Do: DoBoth, With: []string{"bare"}, By: ByDigits, Columns: []string{"Telephone"}},
		"name the column":                  {Do: DoDuplicates, By: ByExact},
		"not by \"name\"":                  {Do: DoOne, By: "name", Columns: []string{"Name"}},
		"one list alone":                   {Do: DoSlice, With: []string{"bare"}, Slice: Slice{To: 1}},
		"choose rows by conditions":        {Do: DoSlice},
		"no terms to look for":             {Do: DoStrike, Terms: []string{" "}},
		"not as \"all\"":                   {Do: DoStrike, Terms: []string{"a"}, How: "all"},
		"give at least one change":         {Do: DoTidy},
		"change 1 (wash): cells":           {Do: DoTidy, Changes: []Change{{Do: "wash", Columns: []string{"Name"}}}},
		"at least one column":              {Do: DoTidy, Changes: []Change{{Do: DropColumns, Columns: []string{"Name", "E-mail"}}}},
		"by which the newest row":          {Do: DoMerge, With: []string{"bare"}, By: ByLoose, Columns: []string{"Name"}, Keep: KeepNewest, Newest: "Joined"},
		"the first, newest or filled":      {Do: DoMerge, With: []string{"bare"}, By: ByLoose, Columns: []string{"Name"}, Keep: "last"},
		"not \"age\"":                      {Do: DoSlice, Conditions: []Condition{{Fact: "age", Test: Empty}}},
		"the condition on the column":      {Do: DoSlice, Conditions: []Condition{{Column: "Name", Test: "like"}}},
		"is not a regular expression":      {Do: DoTidy, Changes: []Change{{Do: Replace, Columns: []string{"Name"}, Find: "(", Pattern: true}}},
		"the lists before it have no such": {Do: DoMerge, With: []string{"bare"}, By: ByLoose, Columns: []string{"Name"}, Aliases: []Alias{{"Name", "Town"}}},
		"the column that holds full names": {Do: DoTidy, Changes: []Change{{Do: FirstName}}},
		"before it begins at row 9":        {Do: DoSlice, Slice: Slice{From: 9, To: 3}},
		"two new names":                    {Do: DoTidy, Changes: []Change{{Do: SplitColumn, Columns: []string{"Name"}}}},
		"a rename takes one column":        {Do: DoTidy, Changes: []Change{{Do: RenameColumn, Columns: []string{"Name"}}}},
		"name the columns that are joined": {Do: DoTidy, Changes: []Change{{Do: JoinColumns, Columns: []string{"Name"}}}},
		"give the text that is replaced":   {Do: DoTidy, Changes: []Change{{Do: Replace}}},
		"the column that holds IP address": {Do: DoTidy, Changes: []Change{{Do: CountryOf}}},
	} {
		_, err := Recipe{s}.Make(people, with(t, bare))
		if err == nil || !strings.Contains(err.Error(), want) || !strings.HasPrefix(err.Error(), "step 1 (") {
			t.Errorf("%+v: %v; want %q", s, err, want)
		}
	}
	if _, err := make21().Make(people, with(t)); err == nil {
		t.Error("21 steps were taken")
	}
}

func make21() (r Recipe) {
	for range MostSteps + 1 {
		r = append(r, Step{Do: DoSlice, Slice: Slice{To: 1}})
	}
	return r
}

// TestSplit: the parts hold every row, each once.
func TestSplit(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	a := random(rng, "members", 90)
	a.Addresses = []int{1}
	for _, by := range []Splitting{{Column: "phone"}, {Fact: FactDomain}, {Each: 13}, {Fact: FactTrait}} {
		d, err := Split(a, by, with(t))
		if err != nil {
			t.Fatal(err)
		}
		var all []string
		rows := make([]int64, len(d.Parts))
		if err := d.Each(func(part int, r Row) error { all, rows[part] = append(all, line(r.Cells())), rows[part]+1; return nil }); err != nil {
			t.Fatal(err)
		}
		for i, p := range d.Parts {
			if rows[i] != p.Rows || by.Each == 0 && i > 0 && p.Rows > d.Parts[i-1].Rows {
				t.Errorf("%+v: part %q has %d rows, not %d", by, p.Value, rows[i], p.Rows)
			}
		}
		var want []string
		for _, r := range rowsOf(t, a) {
			want = append(want, line(r))
		}
		if !slices.Equal(sorted(all), sorted(want)) {
			t.Errorf("%+v: %d rows in %d parts, of %d", by, len(all), len(d.Parts), len(want))
		}
	}
	many := make([][]string, MostParts+1)
	for i := range many {
		many[i] = []string{fmt.Sprint(i)}
	}
	for _, by := range []Splitting{{}, {Each: 1}, {Column: "n"}, {Column: "n", Each: 3}, {Column: "m"}} {
		if _, err := Split(table("many", []string{"n"}, many...), by, with(t)); err == nil {
			t.Errorf("%+v was taken", by)
		}
	}
}
