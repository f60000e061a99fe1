package schedule

import (
	"fmt"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"varnet/core/say"
)

// Says returns the schedule in words: every day at 03:00, Europe/Berlin.
func (s Schedule) Says() string {
	o, zone, err := s.option()
	if err != nil {
		return err.Error()
	}
	return days(*o, s.Rule) + at(*o) + ", " + zone.String()
}

func at(o rrule.ROption) string {
	if o.Freq == rrule.HOURLY {
		return fmt.Sprintf(", %d minutes past", o.Dtstart.Minute())
	}
	return " at " + o.Dtstart.Format("15:04")
}

// days says on which days; a rule of an unusual form as it is.
func days(o rrule.ROption, rule string) string {
	unusual := "by the rule " + rule
	if len(o.Bysetpos) > 0 || len(o.Bymonth) > 0 && o.Freq != rrule.YEARLY || len(o.Byweekday) > 0 && len(o.Bymonthday) > 0 {
		return unusual
	}
	switch o.Freq {
	case rrule.HOURLY:
		if len(o.Byweekday)+len(o.Bymonthday) > 0 {
			return unusual
		}
		return every(o, "hour")
	case rrule.DAILY, rrule.WEEKLY:
		return weekly(o, unusual)
	case rrule.MONTHLY:
		on, ok := ofMonth(o)
		if !ok {
			return unusual
		}
		return every(o, "month") + " on " + on
	case rrule.YEARLY:
		return yearly(o, unusual)
	}
	return unusual
}

// every says an interval: every month, every 3 months.
func every(o rrule.ROption, unit string) string {
	if o.Interval > 1 {
		return fmt.Sprintf("every %d %ss", o.Interval, unit)
	}
	return "every " + unit
}

func weekly(o rrule.ROption, unusual string) string {
	names := make([]string, len(o.Byweekday))
	for i, d := range o.Byweekday {
		if d.N() != 0 {
			return unusual
		}
		names[i] = weekday(d)
	}
	on := say.And(names...)
	if on == "Monday, Tuesday, Wednesday, Thursday and Friday" {
		on = "day from Monday to Friday"
	}
	switch {
	case len(o.Bymonthday) > 0, o.Freq == rrule.DAILY && len(names) > 0 && o.Interval > 1:
		return unusual
	case len(names) > 0 && o.Interval > 1:
		return every(o, "week") + " on " + strings.TrimPrefix(on, "day ")
	case len(names) > 0:
		return "every " + on
	case o.Freq == rrule.DAILY:
		return every(o, "day")
	}
	return every(o, "week") + " on " + o.Dtstart.Weekday().String()
}

// ofMonth says on which days of a month, if these are few.
func ofMonth(o rrule.ROption) (on string, ok bool) {
	var all []string
	for _, d := range o.Bymonthday {
		switch {
		case d == -1:
			all = append(all, "the last day")
		case d < 0:
			return "", false
		default:
			all = append(all, "the "+ordinal(d))
		}
	}
	for _, d := range o.Byweekday {
		place, named := map[int]string{1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last"}[d.N()]
		if !named {
			return "", false
		}
		all = append(all, "the "+place+" "+weekday(d))
	}
	if len(all) == 0 {
		all = append(all, "the "+ordinal(o.Dtstart.Day()))
	}
	return say.And(all...), true
}

func yearly(o rrule.ROption, unusual string) string {
	month, day := o.Dtstart.Month(), o.Dtstart.Day()
	if len(o.Bymonth) == 1 {
		month = time.Month(o.Bymonth[0])
	}
	if len(o.Bymonthday) == 1 {
		day = o.Bymonthday[0]
	}
	if len(o.Bymonth) > 1 || len(o.Bymonthday) > 1 || len(o.Byweekday) > 0 || day < 1 || len(o.Bymonth) == 0 && len(o.Bymonthday) > 0 {
		return unusual
	}
	return fmt.Sprintf("%s on %d %s", every(o, "year"), day, month)
}

// weekday is the name of a day; rrule counts from Monday.
func weekday(d rrule.Weekday) string { return time.Weekday((d.Day() + 1) % 7).String() }

func ordinal(n int) string {
	end := "th"
	if n%100/10 != 1 {
		end = map[int]string{1: "st", 2: "nd", 3: "rd"}[n%10]
		if end == "" {
			end = "th"
		}
	}
	return fmt.Sprintf("%d%s", n, end)
}
