// Package schedule is when something happens again and again: by a recurrence rule (RFC 5545,
// section 3.3.10), at a time of the day, in a time zone.
package schedule

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// Schedule is a rule with the time of the day and the zone in which it holds.
type Schedule struct {
	// Rule is a recurrence rule with FREQ (HOURLY, DAILY, WEEKLY, MONTHLY, YEARLY) and any of
	// INTERVAL, BYDAY, BYMONTHDAY, BYMONTH, BYSETPOS and WKST, such as
	// FREQ=MONTHLY;BYDAY=1MO.
	Rule string
	// Time is the time of the day, such as 03:00; of an hourly rule its minute counts.
	Time string
	// Zone is the time zone, such as Europe/Berlin; "" is UTC.
	Zone string
	// From is the moment from whose day on intervals are counted.
	From time.Time
}

// within is how far ahead a rule must name a day: 29 February comes after eight years at the
// latest.
const within = 9

// parts are what a rule may have.
var parts = []string{"FREQ", "INTERVAL", "BYDAY", "BYMONTHDAY", "BYMONTH", "BYSETPOS", "WKST"}

// option reads the rule, with floating times: the wall clock's, written as UTC.
func (s Schedule) option() (*rrule.ROption, *time.Location, error) {
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return nil, nil, fmt.Errorf("the time zone %q is not known; name one such as Europe/Berlin", s.Zone)
	}
	at, err := time.Parse("15:04", s.Time)
	if err != nil {
		return nil, nil, fmt.Errorf("%q is not a time of the day; write it as 03:00", s.Time)
	}
	for part := range strings.SplitSeq(s.Rule, ";") {
		if name, _, _ := strings.Cut(part, "="); !slices.Contains(parts, name) {
			return nil, nil, fmt.Errorf("the rule %q has %q; it may have %s", s.Rule, name, strings.Join(parts, ", "))
		}
	}
	o, err := rrule.StrToROption(s.Rule)
	if err != nil || !strings.Contains(s.Rule, "FREQ=") {
		return nil, nil, fmt.Errorf("%q is not a recurrence rule (RFC 5545), such as FREQ=WEEKLY;BYDAY=MO", s.Rule)
	}
	if o.Freq == rrule.MINUTELY || o.Freq == rrule.SECONDLY {
		return nil, nil, errors.New("a rule is hourly at most")
	}
	from := s.From.In(zone)
	o.Dtstart = time.Date(from.Year(), from.Month(), from.Day(), at.Hour(), at.Minute(), 0, 0, time.UTC)
	return o, zone, nil
}

// Check reports in a sentence why it cannot be, or names no day within nine years.
func (s Schedule) Check() error {
	next, err := s.Next(s.From)
	if err == nil && next.IsZero() {
		err = fmt.Errorf("the rule %q names no day within %d years", s.Rule, within)
	}
	return err
}

// Next returns the first time after a moment; zero for none within nine years. A time that the
// clock skips is as much later, of one that it shows twice it is the first (RFC 5545, 3.3.5);
// a rule of every hour means both.
func (s Schedule) Next(after time.Time) (time.Time, error) {
	o, zone, err := s.option()
	if err != nil {
		return time.Time{}, err
	}
	o.Until = later(after, s.From).AddDate(within, 0, 0)
	r, err := rrule.NewRRule(*o)
	if err != nil {
		return time.Time{}, fmt.Errorf("the rule %q cannot be: %w", s.Rule, err)
	}
	everyHour := o.Freq == rrule.HOURLY && o.Interval <= 1
	// A day before, since what is skipped or shown twice stands elsewhere on the wall clock.
	wall := floating(after.In(zone)).AddDate(0, 0, -1)
	for {
		wall = r.After(wall, false)
		if wall.IsZero() {
			return wall, nil
		}
		first, again := moments(wall, zone)
		switch {
		case first.After(after):
			return first, nil
		case everyHour && again.After(after):
			return again, nil
		}
	}
}

// mostMissed is how many missed times are counted.
const mostMissed = 1000

// CatchUp returns, of the times from one that was due up to now, the last one and how many before
// it were missed, at most 1000; and the next one, zero for none.
func (s Schedule) CatchUp(due, now time.Time) (last time.Time, missed int, next time.Time, err error) {
	for last = due; ; last, missed = next, missed+1 {
		if next, err = s.Next(last); err != nil || next.IsZero() || next.After(now) {
			return last, missed, next, err
		}
		if missed == mostMissed {
			next, err = s.Next(now)
			return last, missed, next, err
		}
	}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// floating is what the wall clock shows, written as UTC.
func floating(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// moments are when the wall clock of a zone shows a time: first, and again where it was put back in between; otherwise both
// are the same.
func moments(wall time.Time, zone *time.Location) (first, again time.Time) {
	// As with the offset that holds a day before and after: where both are right it shows twice,
	// where neither is, never.
	offset := func(days int) time.Duration {
		_, seconds := wall.AddDate(0, 0, days).In(zone).Zone()
		return time.Duration(seconds) * time.Second
	}
	shows := func(t time.Time) bool { return floating(t.In(zone)).Equal(wall) }
	before, after := wall.Add(-offset(-1)).In(zone), wall.Add(-offset(1)).In(zone)
	if !shows(before) && shows(after) {
		return after, after
	}
	if !shows(after) {
		after = before
	}
	return before, after
}
