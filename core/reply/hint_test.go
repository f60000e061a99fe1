package reply

import (
	"testing"
	"time"

	"varnet/core/smtp"
)

func TestHint(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"4.7.1 Greylisted, try again in 300 seconds":             5 * time.Minute,
		"4.2.0 Recipient address rejected: greylisted for 5 min": 5 * time.Minute,
		"4.7.1 Please retry after 00:04:59":                      4*time.Minute + 59*time.Second,
		"4.7.0 Too many connections, wait 2 Hours please":        2 * time.Hour,
		"4.7.1 You have sent 300 messages in 1 s":                time.Second,
		"4.7.1 come back in 900000 seconds":                      0,
		"4.7.1 come back in 30 hours":                            0,
		"4.7.1 try again later":                                  0,
		"4.3.2 host 10.0.0.5 in 192.0.2.7 is busy":               0,
	} {
		if got := Hint(smtp.Reply{Code: 451, Lines: []string{text}}); got != want {
			t.Errorf("%q: %v, want %v", text, got, want)
		}
	}
	if got := Hint(smtp.Reply{Code: 550, Lines: []string{"try again in 5 minutes"}}); got != 0 {
		t.Errorf("a refusal for good gives the hint %v", got)
	}
}
