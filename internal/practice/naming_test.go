package practice

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"

	"varnet/core/naming"
)

// TestHabits: a list of people at domains with habits is the same each time, has as many mailboxes as its
// operators, and those that are there follow the habit of their domain; made-up ones are not there.
func TestHabits(t *testing.T) {
	w, err := GenerateHabits(3, 6)
	if err != nil {
		t.Fatal(err)
	}
	write := func(which uint64) string {
		var b bytes.Buffer
		if err := w.WriteHabits(&b, 3000, which, nil); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	text := write(1)
	if text != write(1) || text == write(2) {
		t.Error("the same list is not the same, or another one is")
	}
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if err != nil || len(rows) != 3001 {
		t.Fatal(err, len(rows))
	}
	there, follow, single := 0, 0, 0
	for _, row := range rows[1:] {
		local, domain, _ := strings.Cut(row[2], "@")
		if !w.Truth(row[2]).Exists {
			continue
		}
		there++
		h := w.byDomain[domain].Habits[domain]
		if len(h.Patterns) != 1 || row[0] == "" {
			continue
		}
		single++
		if naming.Of(naming.Name{First: row[0], Last: row[1]}, local) == h.Patterns[0] {
			follow++
		}
	}
	if there < 1300 || there > 1700 || float64(follow) < 0.8*float64(single) || single < 300 {
		t.Errorf("of 3000 mailboxes %d are there; of %d at domains with one habit %d follow it", there, single, follow)
	}
	for _, local := range []string{"xq7v1mz", "postmistress9", "wren.nobody4"} {
		if w.Truth(local + "@guild-1-01.example").Exists {
			t.Errorf("%s is there", local)
		}
	}
	if plain, _ := Load("fernhollow"); plain.WriteHabits(&bytes.Buffer{}, 5, 1, nil) != nil {
		t.Error("the demo has no domains with habits")
	}
}
