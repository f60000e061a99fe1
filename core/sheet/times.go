package sheet

import (
	"strings"
	"time"
)

// moments are how days and times are written in files whose columns do not tell, the most likely first; those with the day
// before the month only with dots.
var moments = []string{time.RFC3339, time.DateTime, "2006-01-02 15:04", time.DateOnly, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006/01/02", "02.01.2006 15:04:05", "02.01.2006 15:04", "02.01.2006",
	time.RFC1123Z, time.RFC1123, "2 Jan 2006", "Jan 2, 2006"}

// Time reads a day or a time as the cells of a column of the kind are written, and otherwise as ReadTime does.
func (k Kind) Time(cell string) (at time.Time, ok bool) {
	if k.Type == Date {
		if at, err := time.Parse(k.Layout, strings.TrimSpace(cell)); err == nil {
			return at, true
		}
	}
	return ReadTime(cell)
}

// ReadTime reads a day or a time, in UTC where no zone is told; ok is false for what is none, or could be
// read in two ways, as 3/4/2026.
func ReadTime(cell string) (at time.Time, ok bool) {
	cell = strings.TrimSpace(cell)
	for _, layout := range moments {
		if at, err := time.Parse(layout, cell); err == nil {
			return at, true
		}
	}
	return time.Time{}, false
}
