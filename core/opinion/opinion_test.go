package opinion

import (
	"math/rand/v2"
	"strings"
	"testing"

	"varnet/core/finding"
)

func TestGuess(t *testing.T) {
	for word, want := range map[string]finding.Finding{
		"Valid": finding.Deliverable, "NOT VALID": finding.Undeliverable, "invalid_mailbox": finding.Undeliverable, "ok": finding.Deliverable, "Accepts-All": finding.CatchAll, "catch all": finding.CatchAll,
		"unknown": finding.Undecided, "undeliverable": finding.Undeliverable, "deliverable": finding.Deliverable, "broken": "", "": "",
	} {
		if got, ok := Guess(word); got != want || ok != (want != "") {
			t.Errorf("%q: %q, %v", word, got, ok)
		}
	}
}

func TestMeans(t *testing.T) {
	m := Means{"good one": finding.Deliverable, "spam trap": ""}
	if f, known := m.Of("  Good   ONE "); f != finding.Deliverable || !known {
		t.Errorf("%q, %v", f, known)
	}
	if f, known := m.Of("spam trap"); f != "" || !known {
		t.Errorf("%q, %v", f, known)
	}
	if _, known := m.Of("else"); known {
		t.Error("a word of which nobody has said anything is known")
	}
}

// TestMatrix holds its sentence against counts made one by one.
func TestMatrix(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 25))
	all := append(finding.Findings(), "")
	m, same, both := Matrix{}, 0, 0
	for range 3000 {
		theirs, ours := all[rng.IntN(5)], all[rng.IntN(5)]
		m.Add(theirs, ours, 1)
		if theirs != "" && ours != "" {
			both++
			if theirs == ours {
				same++
			}
			if Contradicts(theirs, ours) && (theirs == ours || !Differs(theirs, ours)) {
				t.Fatalf("%s and %s contradict", theirs, ours)
			}
		}
	}
	if said := m.Sentence("Seedcheck"); both == 0 || same == 0 || !strings.Contains(said, "agree on") {
		t.Errorf("%s", said)
	}
	if said := (Matrix{}).Sentence("Seedcheck"); !strings.Contains(said, "No row") {
		t.Errorf("%s", said)
	}
}

func TestJudged(t *testing.T) {
	var j Judged
	for _, c := range []struct {
		finding.Finding
		arrived bool
	}{{finding.Deliverable, true}, {finding.Deliverable, false}, {finding.Undeliverable, false}, {finding.Undeliverable, true}, {finding.CatchAll, true}, {finding.Undecided, false}, {"", true}} {
		j.Judge(c.Finding, c.arrived)
	}
	if j != (Judged{1, 1, 1, 1}) || j.Of() != 4 || j.Right() != 2 {
		t.Errorf("%+v", j)
	}
	if !strings.Contains(j.Sentence("Seedcheck"), "right on 2 of the 4 addresses") || !strings.Contains((Judged{}).Sentence("It"), "No message") {
		t.Error(j.Sentence("Seedcheck"))
	}
}
