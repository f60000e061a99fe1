package rule

import (
	"testing"
	"time"
)

func at(text string) time.Time {
	t, err := time.Parse("2006-01-02 15:04", text)
	if err != nil {
		panic(err)
	}
	return t
}

func TestTimes(t *testing.T) {
	night, day := Hours{Hours: "22:00-06:00"}, Hours{Hours: "09:00-17:00", Zone: "Europe/Berlin"} // 08:00 to 16:00 UTC
	for _, c := range []struct {
		what  string
		times Times
		now   string
		want  Window
		until string
	}{
		{"nothing asked for", Times{}, "2026-11-23 12:00", Open, ""},
		{"not before", Times{Begin: at("2026-11-24 03:00")}, "2026-11-23 12:00", Early, "2026-11-24 03:00"},
		{"not before, and then the night is over", Times{Begin: at("2026-11-24 07:00"), Hours: night}, "2026-11-23 12:00", Early, "2026-11-24 22:00"},
		{"not before, within the night", Times{Begin: at("2026-11-24 03:00"), Hours: night}, "2026-11-23 23:00", Early, "2026-11-24 03:00"},
		{"before the night", Times{Hours: night}, "2026-11-23 21:59", Early, "2026-11-23 22:00"},
		{"in the evening", Times{Hours: night}, "2026-11-23 22:00", Open, "2026-11-24 06:00"},
		{"in the morning", Times{Hours: night}, "2026-11-24 05:59", Open, "2026-11-24 06:00"},
		{"after the night", Times{Hours: night}, "2026-11-24 06:00", Early, "2026-11-24 22:00"},
		{"hours of another zone", Times{Hours: day}, "2026-11-23 08:00", Open, "2026-11-23 16:00"},
		{"after hours of another zone", Times{Hours: day}, "2026-11-23 16:00", Early, "2026-11-24 08:00"},
		{"the limit comes first", Times{Begin: at("2026-11-23 22:00"), Hours: night, Limit: time.Hour}, "2026-11-23 22:30", Open, "2026-11-23 23:00"},
		{"the hours come first", Times{Begin: at("2026-11-23 22:00"), Hours: night, Limit: 10 * time.Hour}, "2026-11-23 22:30", Open, "2026-11-24 06:00"},
		{"over its limit", Times{Begin: at("2026-11-23 22:00"), Limit: time.Hour}, "2026-11-23 23:00", Over, ""},
	} {
		got, until, err := c.times.At(at(c.now))
		want := time.Time{}
		if c.until != "" {
			want = at(c.until)
		}
		if err != nil || got != c.want || !until.Equal(want) {
			t.Errorf("%s, at %s: %s until %v (%v), want %s until %v", c.what, c.now, got, until, err, c.want, want)
		}
	}
	for _, wrong := range []Hours{{Hours: "at night"}, {Hours: "22:00-22:00"}, {Hours: "22:00-06:00", Zone: "Fernhollow/Shed"}} {
		if _, _, err := (Times{Hours: wrong}).At(at("2026-11-23 12:00")); err == nil {
			t.Errorf("%+v is taken", wrong)
		}
	}
}
