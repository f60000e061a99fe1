package steal

import (
	"testing"
	"time"
)

func TestShare(t *testing.T) {
	before := parse("cpu  100 0 50 9000 7 0 10 40 0 0\ncpu0 1 1 1 1\n")
	after := parse("cpu  220 10 80 9900 9 5 15 70 0 0\n")
	// 120 + 10 + 30 + 5 + 5 of work; 30 that others had.
	if got := after.since(before); got != 100*30/200. {
		t.Errorf("%.2f %%", got)
	}
	if got := parse("").since(parse("")); got != 0 {
		t.Errorf("where nothing is told: %.2f %%", got)
	}
}

func TestCalm(t *testing.T) {
	w, begun := &Watch{}, time.Now()
	for n, calm := range []bool{true, true, true, false, true, true, true} {
		w.add(begun.Add(time.Duration(n+1)*window), calm)
	}
	for n, want := range []bool{false, true, false, false, false, true, false, false} {
		if at := begun.Add(time.Duration(n)*window + window/2); w.Calm(at) != want {
			t.Errorf("window %d is calm: %v", n, !want)
		}
	}
}
