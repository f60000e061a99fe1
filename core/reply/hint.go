package reply

import (
	"regexp"
	"strconv"
	"time"

	"varnet/core/smtp"
)

// hints are the ways in which hosts say how long to stay away: "try again in 300
// seconds", "greylisted for 5 minutes", "retry after 00:04:59".
var hints = regexp.MustCompile(`(?i)\b(?:in|after|for|wait|within|next)\s+(?:another\s+|about\s+)?(?:(\d{1,2}):(\d{2}):(\d{2})\b|(\d{1,5})\s*(s|secs?|seconds?|m|mins?|minutes?|h|hrs?|hours?)\b)`)

// The hints that are believed.
const (
	leastHint = time.Second
	mostHint  = 4 * time.Hour
)

// Hint is how long a host that puts us off asks us to stay away; zero: it does
// not say, or what it says is out of all reason.
func Hint(r smtp.Reply) time.Duration {
	if !r.Transient() {
		return 0
	}
	m := hints.FindStringSubmatch(r.Text())
	if m == nil {
		return 0
	}
	number := func(i int) time.Duration { n, _ := strconv.Atoi(m[i]); return time.Duration(n) }
	wait := number(1)*time.Hour + number(2)*time.Minute + number(3)*time.Second
	if m[4] != "" {
		unit := map[byte]time.Duration{'s': time.Second, 'm': time.Minute, 'h': time.Hour}
		wait = number(4) * unit[m[5][0]|0x20]
	}
	if wait < leastHint || wait > mostHint {
		return 0
	}
	return wait
}
