package clock_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"varnet/internal/clock"
)

func TestAhead(t *testing.T) {
	file := filepath.Join(t.TempDir(), "clock")
	for text, ok := range map[string]bool{"0s": true, "26h30m\n": true, "-1h": false, "tomorrow": false, "": false} {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := clock.Ahead(file); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
	if err := os.WriteFile(file, []byte("48h"), 0o600); err != nil {
		t.Fatal(err)
	}
	c, err := clock.Ahead(file)
	if err != nil {
		t.Fatal(err)
	}
	if by := time.Until(c.Now()); by < 47*time.Hour || by > 49*time.Hour {
		t.Errorf("it is ahead by %v", by)
	}
	if by := time.Until(clock.Clock{}.Now()).Abs(); by > time.Minute {
		t.Errorf("the machine's is off by %v", by)
	}
}

func TestDaily(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	for now, want := range map[string]string{
		"2026-11-28T05:59:59Z": "2026-11-28T06:00:00Z",
		"2026-11-28T06:00:00Z": "2026-11-29T06:00:00Z",
		"2026-03-28T12:00:00Z": "2026-03-29T05:00:00Z", // the night in which summer time begins
		"2026-10-24T12:00:00Z": "2026-10-25T06:00:00Z", // and ends
		"2026-12-31T23:30:00Z": "2027-01-01T06:00:00Z",
	} {
		at, err := time.Parse(time.RFC3339, now)
		if err != nil {
			t.Fatal(err)
		}
		if got := clock.Daily(at, berlin, 7).UTC().Format(time.RFC3339); got != want {
			t.Errorf("after %s comes %s, not %s", now, got, want)
		}
	}
}
