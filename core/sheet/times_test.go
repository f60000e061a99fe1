package sheet

import (
	"testing"
	"time"
)

func TestReadTime(t *testing.T) {
	for text, want := range map[string]string{
		"2026-11-03": "2026-11-03T00:00:00Z", " 2026-11-03 14:05 ": "2026-11-03T14:05:00Z", "2026-11-03T14:05:06+01:00": "2026-11-03T14:05:06+01:00",
		"03.11.2026": "2026-11-03T00:00:00Z", "03.11.2026 14:05:06": "2026-11-03T14:05:06Z", "3 Nov 2026": "2026-11-03T00:00:00Z",
		"Tue, 03 Nov 2026 14:05:06 +0000": "2026-11-03T14:05:06Z",
	} {
		if at, ok := ReadTime(text); !ok || at.Format(time.RFC3339) != want {
			t.Errorf("%q: %v, %v", text, at, ok)
		}
	}
	for _, text := range []string{"", "3/4/2026", "yesterday", "2026-13-01", "2026-11-03 25:00"} {
		if at, ok := ReadTime(text); ok || !at.IsZero() {
			t.Errorf("%q was read as %v, %v", text, at, ok)
		}
	}
}

// TestTimeOfAKind reads what a column's own cells tell how to read, and what is written otherwise among them.
func TestTimeOfAKind(t *testing.T) {
	days := KindOf([]string{"03/04/2026", "25/06/2026"})
	for cell, want := range map[string]string{" 03/04/2026": "2026-04-03", "2026-05-06": "2026-05-06"} {
		if at, ok := days.Time(cell); !ok || at.Format(time.DateOnly) != want {
			t.Errorf("%q in a column of days before months: %v, %v", cell, at, ok)
		}
	}
	if at, ok := (Kind{Type: Text}).Time("03/04/2026"); ok {
		t.Errorf("in a column of texts a day that can be read in two ways was read as %v", at)
	}
}
