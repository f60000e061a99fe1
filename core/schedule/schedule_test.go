package schedule_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"varnet/core/schedule"
)

func moment(t *testing.T, text string) time.Time {
	t.Helper()
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		t.Fatal(err)
	}
	return at
}

// TestTimes holds the times of schedules against those that were written down by hand, from
// calendars and the rules of the zones: nights in which summer time begins and ends in three of
// them, 29 February, last days and weekdays of months.
func TestTimes(t *testing.T) {
	for _, x := range []struct {
		rule, at, zone, from, after string
		want                        []string
	}{
		{"FREQ=DAILY", "03:00", "Europe/Berlin", "2026-11-01T00:00:00Z", "2026-11-28T02:00:00Z", []string{"2026-11-29T02:00:00Z", "2026-11-30T02:00:00Z"}},
		// Berlin: 02:00 is 03:00 on 29 March 2026; 03:00 is 02:00 on 25 October.
		{"FREQ=DAILY", "02:30", "Europe/Berlin", "2026-03-01T00:00:00Z", "2026-03-27T12:00:00Z", []string{"2026-03-28T01:30:00Z", "2026-03-29T01:30:00Z", "2026-03-30T00:30:00Z"}},
		{"FREQ=DAILY", "02:30", "Europe/Berlin", "2026-10-01T00:00:00Z", "2026-10-24T12:00:00Z", []string{"2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"}},
		{"FREQ=DAILY", "02:00", "Europe/Berlin", "2026-03-01T00:00:00Z", "2026-03-28T12:00:00Z", []string{"2026-03-29T01:00:00Z", "2026-03-30T00:00:00Z"}},
		// New York: 02:00 is 03:00 on 8 March 2026; 02:00 is 01:00 on 1 November.
		{"FREQ=DAILY", "02:30", "America/New_York", "2026-03-01T00:00:00Z", "2026-03-07T12:00:00Z", []string{"2026-03-08T07:30:00Z", "2026-03-09T06:30:00Z"}},
		{"FREQ=DAILY", "01:30", "America/New_York", "2026-10-01T00:00:00Z", "2026-10-31T12:00:00Z", []string{"2026-11-01T05:30:00Z", "2026-11-02T06:30:00Z"}},
		// Lord Howe Island: the clock goes half an hour: 02:00 is 02:30 on 4 October 2026, and
		// 02:00 is 01:30 on 5 April.
		{"FREQ=DAILY", "02:15", "Australia/Lord_Howe", "2026-10-01T00:00:00Z", "2026-10-02T20:00:00Z", []string{"2026-10-03T15:45:00Z", "2026-10-04T15:15:00Z"}},
		{"FREQ=DAILY", "01:45", "Australia/Lord_Howe", "2026-04-01T00:00:00Z", "2026-04-03T20:00:00Z", []string{"2026-04-04T14:45:00Z", "2026-04-05T15:15:00Z"}},
		// The hour that is skipped is not told twice.
		{"FREQ=HOURLY", "00:30", "Europe/Berlin", "2026-03-28T00:00:00Z", "2026-03-28T23:45:00Z", []string{"2026-03-29T00:30:00Z", "2026-03-29T01:30:00Z", "2026-03-29T02:30:00Z"}},
		// The hour that is shown twice is two hours; every second hour goes on by the clock.
		{"FREQ=HOURLY", "00:30", "Europe/Berlin", "2026-10-24T00:00:00Z", "2026-10-24T23:45:00Z", []string{"2026-10-25T00:30:00Z", "2026-10-25T01:30:00Z", "2026-10-25T02:30:00Z"}},
		{"FREQ=HOURLY;BYDAY=SU", "00:05", "America/New_York", "2026-10-24T00:00:00Z", "2026-11-01T04:45:00Z", []string{"2026-11-01T05:05:00Z", "2026-11-01T06:05:00Z", "2026-11-01T07:05:00Z"}},
		{"FREQ=HOURLY;INTERVAL=2", "00:30", "Europe/Berlin", "2026-10-24T00:00:00Z", "2026-10-24T22:45:00Z", []string{"2026-10-25T00:30:00Z", "2026-10-25T03:30:00Z"}},
		{"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "06:00", "", "2026-01-01T00:00:00Z", "2026-01-01T00:00:00Z", []string{"2028-02-29T06:00:00Z", "2032-02-29T06:00:00Z"}},
		{"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "06:00", "", "2096-03-01T00:00:00Z", "2096-03-01T00:00:00Z", []string{"2104-02-29T06:00:00Z"}},
		{"FREQ=MONTHLY;BYMONTHDAY=31", "09:00", "", "2026-01-01T00:00:00Z", "2026-01-31T09:00:00Z", []string{"2026-03-31T09:00:00Z", "2026-05-31T09:00:00Z"}},
		{"FREQ=MONTHLY;BYMONTHDAY=-1", "09:00", "", "2026-01-01T00:00:00Z", "2026-01-31T09:00:00Z", []string{"2026-02-28T09:00:00Z", "2026-03-31T09:00:00Z"}},
		{"FREQ=MONTHLY;BYDAY=-1FR", "17:00", "Europe/Berlin", "2026-01-01T00:00:00Z", "2026-02-01T00:00:00Z", []string{"2026-02-27T16:00:00Z", "2026-03-27T16:00:00Z", "2026-04-24T15:00:00Z"}},
		{"FREQ=MONTHLY;BYDAY=1MO", "03:00", "Europe/Berlin", "2026-01-01T00:00:00Z", "2026-05-31T00:00:00Z", []string{"2026-06-01T01:00:00Z", "2026-07-06T01:00:00Z"}},
		{"FREQ=WEEKLY;INTERVAL=2;BYDAY=MO", "03:00", "", "2026-11-02T00:00:00Z", "2026-11-02T03:00:00Z", []string{"2026-11-16T03:00:00Z", "2026-11-30T03:00:00Z"}},
		{"FREQ=DAILY;INTERVAL=3", "03:00", "", "2026-11-02T00:00:00Z", "2026-11-03T00:00:00Z", []string{"2026-11-05T03:00:00Z", "2026-11-08T03:00:00Z"}},
		// A service that was down for a week: the first time after it came up.
		{"FREQ=DAILY", "03:00", "Europe/Berlin", "2026-11-01T00:00:00Z", "2026-11-20T14:12:00Z", []string{"2026-11-21T02:00:00Z"}},
	} {
		s := schedule.Schedule{Rule: x.rule, Time: x.at, Zone: x.zone, From: moment(t, x.from)}
		after := moment(t, x.after)
		for _, want := range x.want {
			next, err := s.Next(after)
			if err != nil || !next.Equal(moment(t, want)) {
				t.Errorf("%s at %s in %s after %s: %v (%v), not %s", x.rule, x.at, x.zone, after.UTC(), next.UTC(), err, want)
				break
			}
			after = next
		}
	}
}

// TestCatchUp: a service that was down is told of the last time and of those that it missed.
func TestCatchUp(t *testing.T) {
	s := schedule.Schedule{Rule: "FREQ=DAILY", Time: "03:00", From: moment(t, "2019-11-01T00:00:00Z")}
	for _, x := range []struct {
		due, now, last, next string
		missed               int
	}{
		{"2026-11-20T03:00:00Z", "2026-11-20T03:00:04Z", "2026-11-20T03:00:00Z", "2026-11-21T03:00:00Z", 0},
		{"2026-11-20T03:00:00Z", "2026-11-27T02:59:59Z", "2026-11-26T03:00:00Z", "2026-11-27T03:00:00Z", 6},
		{"2020-01-01T03:00:00Z", "2026-11-27T12:00:00Z", "2022-09-27T03:00:00Z", "2026-11-28T03:00:00Z", 1000},
	} {
		last, missed, next, err := s.CatchUp(moment(t, x.due), moment(t, x.now))
		if err != nil || !last.Equal(moment(t, x.last)) || !next.Equal(moment(t, x.next)) || missed != x.missed {
			t.Errorf("due %s, now %s: %v, %d missed, next %v (%v)", x.due, x.now, last.UTC(), missed, next.UTC(), err)
		}
	}
}

func TestSays(t *testing.T) {
	for rule, want := range map[string]string{
		"FREQ=DAILY":                                    "every day at 03:00, Europe/Berlin",
		"FREQ=DAILY;INTERVAL=3":                         "every 3 days at 03:00, Europe/Berlin",
		"FREQ=WEEKLY":                                   "every week on Monday at 03:00, Europe/Berlin",
		"FREQ=WEEKLY;BYDAY=MO,FR":                       "every Monday and Friday at 03:00, Europe/Berlin",
		"FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR":              "every day from Monday to Friday at 03:00, Europe/Berlin",
		"FREQ=WEEKLY;INTERVAL=2;BYDAY=SU":               "every 2 weeks on Sunday at 03:00, Europe/Berlin",
		"FREQ=MONTHLY;BYDAY=1MO":                        "every month on the first Monday at 03:00, Europe/Berlin",
		"FREQ=MONTHLY;BYDAY=-1FR":                       "every month on the last Friday at 03:00, Europe/Berlin",
		"FREQ=MONTHLY;BYMONTHDAY=1,15":                  "every month on the 1st and the 15th at 03:00, Europe/Berlin",
		"FREQ=MONTHLY;BYMONTHDAY=22":                    "every month on the 22nd at 03:00, Europe/Berlin",
		"FREQ=MONTHLY;BYMONTHDAY=-1":                    "every month on the last day at 03:00, Europe/Berlin",
		"FREQ=MONTHLY;INTERVAL=3":                       "every 3 months on the 2nd at 03:00, Europe/Berlin",
		"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29":           "every year on 29 February at 03:00, Europe/Berlin",
		"FREQ=HOURLY;INTERVAL=6":                        "every 6 hours, 0 minutes past, Europe/Berlin",
		"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1": "by the rule FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1 at 03:00, Europe/Berlin",
	} {
		s := schedule.Schedule{Rule: rule, Time: "03:00", Zone: "Europe/Berlin", From: moment(t, "2026-11-02T12:00:00Z")}
		if err := s.Check(); err != nil {
			t.Errorf("%s: %v", rule, err)
		}
		if got := s.Says(); got != want {
			t.Errorf("%s: %q, not %q", rule, got, want)
		}
	}
}

func TestCheck(t *testing.T) {
	for rule, want := range map[string]string{
		"":                                    "it may have",
		"every day":                           "it may have",
		"FREQ=OFTEN":                          "not a recurrence rule",
		"INTERVAL=2":                          "not a recurrence rule",
		"FREQ=SECONDLY":                       "hourly at most",
		"FREQ=DAILY;COUNT=3":                  `has "COUNT"`,
		"FREQ=DAILY;BYHOUR=4":                 `has "BYHOUR"`,
		"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30": "names no day",
		"FREQ=MONTHLY;BYMONTHDAY=99":          "cannot be",
		"FREQ=DAILY;INTERVAL=-1":              "cannot be",
	} {
		err := schedule.Schedule{Rule: rule, Time: "03:00", From: moment(t, "2026-11-02T12:00:00Z")}.Check()
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", rule, err)
		}
	}
	if err := (schedule.Schedule{Rule: "FREQ=DAILY", Time: "25:00"}).Check(); err == nil || !strings.Contains(err.Error(), "time of the day") {
		t.Error(err)
	}
	if err := (schedule.Schedule{Rule: "FREQ=DAILY", Time: "03:00", Zone: "Fernhollow"}).Check(); err == nil || !strings.Contains(err.Error(), "not known") {
		t.Error(err)
	}
}

func ExampleSchedule_Next() {
	s := schedule.Schedule{Rule: "FREQ=MONTHLY;BYDAY=1MO", Time: "03:00", Zone: "Europe/Berlin", From: time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC)}
	next, err := s.Next(time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC))
	if err != nil {
		panic(err)
	}
	fmt.Println(s.Says())
	fmt.Println(next)
	// Output:
	// every month on the first Monday at 03:00, Europe/Berlin
	// 2026-12-07 03:00:00 +0100 CET
}
