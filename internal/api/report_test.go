package api

import (
	"testing"
	"time"
)

// TestDuration: two units, the larger ones, and never nothing.
func TestDuration(t *testing.T) {
	for d, want := range map[time.Duration]string{
		0: "1 second", 400 * time.Millisecond: "1 second", 1500 * time.Millisecond: "2 seconds", 59 * time.Second: "59 seconds",
		time.Minute: "1 minute 0 seconds", 61 * time.Second: "1 minute 1 second", 59*time.Minute + 59600*time.Millisecond: "1 hour 0 minutes",
		time.Hour + time.Minute: "1 hour 1 minute", 26*time.Hour + 90*time.Minute: "27 hours 30 minutes", 1200 * time.Hour: "1,200 hours 0 minutes",
	} {
		if got := duration(d); got != want {
			t.Errorf("%v is said as %q, want %q", d, got, want)
		}
	}
}
