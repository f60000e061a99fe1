package rule

import (
	"fmt"
	"strings"
	"time"
)

// Hours are a part of each day.
type Hours struct {
	// Hours are such as 22:00-06:00; "" is the whole day.
	Hours string
	// Zone is the time zone, such as Europe/Berlin; "" is UTC.
	Zone string
}

// Opens tells when the hours begin next: now, which is zero, or later.
func (h Hours) Opens(now time.Time) (time.Time, error) {
	opens, _, err := h.around(now)
	if err != nil || !opens.After(now) {
		return time.Time{}, err
	}
	return opens, nil
}

// Closes tells when the hours end that are now or begin next; zero: never.
func (h Hours) Closes(now time.Time) (time.Time, error) {
	_, closes, err := h.around(now)
	return closes, err
}

// around returns beginning and end of the hours that are now, or else next. Both
// are zero for the whole day.
func (h Hours) around(now time.Time) (opens, closes time.Time, err error) {
	if h.Hours == "" {
		return opens, closes, nil
	}
	zone, err := time.LoadLocation(h.Zone)
	if err != nil {
		return opens, closes, fmt.Errorf("the zone %q is not known; name one such as Europe/Berlin", h.Zone)
	}
	from, to, ok := strings.Cut(strings.ReplaceAll(h.Hours, " ", ""), "-")
	begin, err1 := time.Parse("15:04", from)
	end, err2 := time.Parse("15:04", to)
	if !ok || err1 != nil || err2 != nil || begin.Equal(end) {
		return opens, closes, fmt.Errorf("the hours %q are not of the form 22:00-06:00", h.Hours)
	}
	here := now.In(zone)
	at := func(t time.Time, days int) time.Time {
		return time.Date(here.Year(), here.Month(), here.Day()+days, t.Hour(), t.Minute(), 0, 0, zone)
	}
	overMidnight := 0
	if end.Before(begin) {
		overMidnight = 1
	}
	for days := -1; ; days++ { // yesterday's may go on until this morning
		if opens, closes = at(begin, days), at(end, days+overMidnight); closes.After(now) {
			return opens, closes, nil
		}
	}
}

// String says the hours, such as "22:00 to 06:00 (UTC)".
func (h Hours) String() string {
	zone := h.Zone
	if zone == "" {
		zone = "UTC"
	}
	return fmt.Sprintf("%s (%s)", strings.Replace(h.Hours, "-", " to ", 1), zone)
}

// Times are when a run may work: not before it begins, within its hours, and no
// longer than its limit.
type Times struct {
	Begin time.Time
	Hours Hours
	// Limit is how long it may take since it began; 0: as long as it takes.
	Limit time.Duration
}

// Window is what the times of a run say at a moment.
type Window string

// The windows.
const (
	Early Window = "early" // it may not work yet, or not now
	Open  Window = "open"
	Over  Window = "over" // its limit was reached
)

// At tells how a run stands at a time, and when that will change next; zero:
// never.
func (t Times) At(now time.Time) (s Window, until time.Time, err error) {
	from := now
	if t.Begin.After(now) {
		from = t.Begin
	}
	opens, err := t.Hours.Opens(from)
	if err != nil {
		return "", time.Time{}, err
	}
	if opens.IsZero() {
		opens = from
	}
	closes, err := t.Hours.Closes(from)
	if err != nil {
		return "", time.Time{}, err
	}
	end := t.Begin.Add(t.Limit)
	switch {
	case t.Limit > 0 && !now.Before(end):
		return Over, time.Time{}, nil
	case opens.After(now):
		return Early, opens, nil
	case t.Limit > 0 && (closes.IsZero() || end.Before(closes)):
		return Open, end, nil
	}
	return Open, closes, nil
}
