package summary

import "time"

// Clock says a time of today, as all sentences do.
func Clock(t time.Time, zone *time.Location) string { return t.In(zone).Format("15:04:05 MST") }

// when says a time of any day.
func when(t time.Time, zone *time.Location) string {
	return "on " + t.In(zone).Format("2 January at 15:04 MST")
}
