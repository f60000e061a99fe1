package resolve

import (
	"strings"
	"testing"
)

func at(t *testing.T, servers ...string) *Resolver {
	t.Helper()
	r, err := New(servers, false)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestOneResolversNoIsNotEnough: what one resolver hides another finds; the domain stays
// open, and the one that hides is told of.
func TestOneResolversNoIsNotEnough(t *testing.T) {
	good, filter := startServer(t, &server{}), startServer(t, &server{hides: "plain.example."})
	for range 20 {
		r := at(t, good, filter)
		d := r.Lookup(t.Context(), "plain.example")
		if d.Outcome != ByMX && d.Outcome != Failed || d.Outcome == Failed && !strings.Contains(d.Answers[len(d.Answers)-1].Problem, "contradicts "+filter) {
			t.Fatalf("%s: %+v", d.Outcome, d.Answers)
		}
		for _, h := range r.Health() {
			if h.Server == filter && d.Outcome == Failed && (h.Contradicted == 0 || !strings.HasSuffix(h.Hidden, "plain.example")) || h.Server == good && h.Contradicted != 0 {
				t.Errorf("%+v", h)
			}
		}
		if d := r.Lookup(t.Context(), "no-such.example"); d.Outcome != Absent || len(d.Answers) != 2 {
			t.Errorf("both say so: %s, %+v", d.Outcome, d.Answers)
		}
	}
}

// TestAnOnlyResolverMustBeProven before it is believed that a domain does not exist.
func TestAnOnlyResolverMustBeProven(t *testing.T) {
	for reference, want := range map[string]Outcome{"plain.example": Absent, "parked.example": Absent, "not-there.example": Failed} {
		r := newResolver(t, false, &server{})
		r.Know([]string{reference})
		if d := r.Lookup(t.Context(), "no-such.example"); d.Outcome != want {
			t.Errorf("it is to know %s: %s, %+v", reference, d.Outcome, d.Answers)
		}
	}
	r := newResolver(t, false, &server{}, &server{refuse: true})
	if d := r.Lookup(t.Context(), "no-such.example"); d.Outcome != Absent {
		t.Errorf("the other gives no answer: %s", d.Outcome)
	}
}
