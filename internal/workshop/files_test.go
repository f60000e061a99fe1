package workshop

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/sheet"
	"varnet/core/workshop"
	"varnet/internal/format"
)

// written is how a list of a test is written.
type written struct {
	delimiter, end string
	encoding       string
	quoteAll       bool
}

var ways = []written{{",", "\n", sheet.UTF8, false}, {";", "\r\n", sheet.Windows1252, true}, {"\t", "\n", sheet.UTF16LE, false}, {"|", "\r\n", sheet.UTF8, true}}

// people writes a list of made-up people, few of them different, and returns its rows and the
// bytes of each.
func people(t *testing.T, rng *rand.Rand, file string, w written, rows int) (cells [][]string, raw []string) {
	t.Helper()
	all := [][]string{{"No.", "E-mail", "Name", "second e-mail", "Joined"}}
	for i := range rows {
		address := fmt.Sprintf("%s%d@%s.example", []string{"ada", "ADA", "wren"}[rng.IntN(3)], rng.IntN(15), []string{"orchard", "Attic"}[rng.IntN(2)])
		second := ""
		if rng.IntN(3) == 0 {
			second = fmt.Sprintf("wren%d@orchard.example", rng.IntN(15))
		}
		if rng.IntN(10) == 0 && i > 5 {
			address = []string{"", "no address", " <" + address + ">"}[rng.IntN(3)]
		}
		all = append(all, []string{fmt.Sprintf("%04d", rng.IntN(50)), address, []string{"Ada Møss", "Vale" + w.delimiter + " Wren", `Jan "the bean"`, ""}[rng.IntN(4)], second, fmt.Sprintf("202%d-03-0%d", rng.IntN(6), 1+rng.IntN(9))})
	}
	var text strings.Builder
	for n, row := range all {
		var line []string
		for _, c := range row {
			if w.quoteAll || strings.ContainsAny(c, `"`+w.delimiter) {
				c = `"` + strings.ReplaceAll(c, `"`, `""`) + `"`
			}
			line = append(line, c)
		}
		record := strings.Join(line, w.delimiter) + w.end
		if n == len(all)-1 {
			record = strings.TrimSuffix(record, w.end) // the last has no line end
		}
		text.WriteString(record)
		if n > 0 {
			raw = append(raw, strings.TrimSuffix(record, w.end))
		}
	}
	b := []byte(text.String())
	var err error
	switch w.encoding {
	case sheet.Windows1252:
		b, err = charmap.Windows1252.NewEncoder().Bytes(b)
	case sheet.UTF16LE:
		b, err = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().Bytes(b)
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, b, 0o600); err != nil {
		t.Fatal(err)
	}
	return all[1:], raw
}

// decoded are the lines of a file behind its header.
func decoded(t *testing.T, b []byte, w written) []string {
	t.Helper()
	var err error
	switch w.encoding {
	case sheet.Windows1252:
		b, err = charmap.Windows1252.NewDecoder().Bytes(b)
	case sheet.UTF16LE:
		b, err = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(b)
	}
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSuffix(string(b), w.end), w.end)
	return lines[1:]
}

func keysOf(row []string) (keys []string) {
	for _, c := range []int{1, 3} {
		if a, err := address.Parse(row[c]); err == nil {
			keys = append(keys, a.Canonical())
		}
	}
	return keys
}

func in(row []string, rows [][]string) bool {
	return slices.ContainsFunc(rows, func(o []string) bool {
		return slices.ContainsFunc(keysOf(row), func(k string) bool { return slices.Contains(keysOf(o), k) })
	})
}

// TestFilesAsModel holds the operations on files in many dialects and encodings against a naive
// model: rows keep their bytes, and without and both are a partition.
func TestFilesAsModel(t *testing.T) {
	folder := t.TempDir()
	for seed := range uint64(24) {
		rng := rand.New(rand.NewPCG(seed, 1))
		first, second := ways[int(seed)%len(ways)], ways[rng.IntN(len(ways))]
		a, b := filepath.Join(folder, "a.csv"), filepath.Join(folder, "b.csv")
		rowsA, rawA := people(t, rng, a, first, 20+rng.IntN(60))
		rowsB, _ := people(t, rng, b, second, 20+rng.IntN(60))
		columns := []string{"E-mail", "second e-mail"}
		for do, keep := range map[workshop.Do]bool{workshop.DoWithout: false, workshop.DoBoth: true} {
			got := decoded(t, made(t, Files{First: a, Recipe: workshop.Recipe{{Do: do, With: []string{b}, Columns: columns}}}), first)
			var want []string
			for n, row := range rowsA {
				if in(row, rowsB) == keep {
					want = append(want, rawA[n])
				}
			}
			if !slices.Equal(got, want) && len(want) > 0 {
				t.Fatalf("seed %d, %s:\n%q\n%q", seed, do, got, want)
			}
		}
		holdMerged(t, seed, a, b, rowsA, rowsB)
	}
}

// holdMerged: each row of both lists is in the merged one, or one with its first key before it;
// cells are those of the lists.
func holdMerged(t *testing.T, seed uint64, a, b string, rowsA, rowsB [][]string) {
	t.Helper()
	out := made(t, Files{First: a, Recipe: workshop.Recipe{{Do: workshop.DoMerge, With: []string{b}, Columns: []string{"E-mail", "second e-mail"}}}})
	file := filepath.Join(t.TempDir(), "merged.csv")
	if err := os.WriteFile(file, out, 0o600); err != nil {
		t.Fatal(err)
	}
	merged, err := File(t.Context(), file, "", sheet.Overrule{})
	if err != nil {
		t.Fatal(err)
	}
	var got [][]string
	for r, err := range merged.Rows() {
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, r.Cells())
	}
	seen, want := map[string]bool{}, [][]string(nil)
	for _, row := range append(slices.Clone(rowsA), rowsB...) {
		if keys := keysOf(row); len(keys) > 0 {
			if seen[keys[0]] {
				continue
			}
			seen[keys[0]] = true
		}
		want = append(want, row)
	}
	if !slices.EqualFunc(got, want, slices.Equal[[]string]) {
		t.Fatalf("seed %d: merged:\n%q\n%q", seed, got, want)
	}
}

// made is the file that is made of files.
func made(t *testing.T, o Files) []byte {
	t.Helper()
	o.Catalogue, o.Now = catalogue.Default(), time.Now
	m, err := BeginFiles(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	var out bytes.Buffer
	if err := Write(m.Table, format.AsBrought, &out); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// TestReport: what is said of what was made is what was made.
func TestReport(t *testing.T) {
	folder := t.TempDir()
	members, gone := filepath.Join(folder, "members.csv"), filepath.Join(folder, "gone.csv")
	write := func(file, text string) {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(members, "E-mail,Town\nada@orchard.example,Mossford\nwren@orchard.example,Upwick\nida@attic.example,Mossford\n")
	write(gone, "address\nWREN@orchard.example\n")
	m, err := BeginFiles(t.Context(), Files{First: members, Recipe: workshop.Recipe{{Do: workshop.DoWithout, With: []string{gone}}, {Do: workshop.DoSlice, Slice: workshop.Slice{To: 1}}}, Catalogue: catalogue.Default(), Now: time.Now})
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	r, err := m.Look()
	if err != nil {
		t.Fatal(err)
	}
	if want := "“members.csv” without “gone.csv” by address, then the first 1 row: 1 of 3 rows."; m.Says(r) != want {
		t.Errorf("it says %q", m.Says(r))
	}
	if r.Rows != 1 || len(r.Steps) != 2 || r.Steps[0].Before != 3 || r.Steps[0].Rows != 2 || r.Steps[0].Others[0] != 1 || r.Steps[1].Rows != 1 || len(r.First) != 1 || r.First[0][1] != "Mossford" {
		t.Errorf("%+v", r)
	}
	_, err = BeginFiles(context.Background(), Files{First: members, Recipe: workshop.Recipe{{Do: workshop.DoSlice, Conditions: []workshop.Condition{{Fact: workshop.FactFinding, Test: workshop.Empty}}}}, Catalogue: catalogue.Default(), Now: time.Now})
	if err == nil || !strings.Contains(err.Error(), "import it") {
		t.Errorf("a file was verified: %v", err)
	}
}
