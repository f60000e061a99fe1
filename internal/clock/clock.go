// Package clock is what time it is for what goes by the calendar: routines and daily letters.
package clock

import (
	"fmt"
	"os"
	"strings"
	"time"
)

// Clock tells the time. The zero value is the machine's clock; one with a file is ahead of it
// by what is in the file, such as 26h30m, so that days pass in a test or demonstration within
// minutes.
type Clock struct{ file string }

// Ahead returns a clock that is ahead of the machine's by what is in a file.
func Ahead(file string) (Clock, error) {
	c := Clock{file}
	_, err := c.ahead()
	return c, err
}

// Now returns the time. While the file cannot be read it is the machine's.
func (c Clock) Now() time.Time {
	by, _ := c.ahead()
	return time.Now().Add(by)
}

func (c Clock) ahead() (time.Duration, error) {
	if c.file == "" {
		return 0, nil
	}
	text, err := os.ReadFile(c.file)
	if err != nil {
		return 0, err
	}
	by, err := time.ParseDuration(strings.TrimSpace(string(text)))
	if err != nil || by < 0 {
		return 0, fmt.Errorf("%s: a clock is ahead by a time such as 26h30m, not %q", c.file, strings.TrimSpace(string(text)))
	}
	return by, nil
}

// Daily returns the next time, after now, at which an hour begins in a zone.
func Daily(now time.Time, zone *time.Location, hour int) time.Time {
	at := now.In(zone)
	for day := 0; ; day++ {
		next := time.Date(at.Year(), at.Month(), at.Day()+day, hour, 0, 0, 0, zone)
		if next.After(now) {
			return next
		}
	}
}
