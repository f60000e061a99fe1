// Package trial decides about trial letters: real, honest messages by which the addresses of
// catch-all domains are settled. It says what a letter must tell, which addresses get one, how
// fast they leave, and how long that takes.
package trial

import (
	"fmt"
	"strings"
	"unicode"

	"varnet/core/problem"
)

// Text is what a trial letter says, in the words of whoever sends it.
type Text struct {
	Subject string
	// Body is the letter itself.
	Body string
	// Who is who writes: the person or organisation, and where they can be reached.
	Who string
	// Why is how they come by the address, and why they write to it.
	Why string
}

// The bounds of a text, in characters and words.
const (
	MostSubject   = 120
	MostBody      = 10_000
	MostLine      = 300 // of who and why
	LeastBody     = 12  // words
	LeastLine     = 3   // words
	LeastOfReason = 5   // words of the lawful reason
)

// disguises begin subjects of answers and of what somebody passes on.
var disguises = []string{"re:", "re :", "fw:", "fwd:", "aw:", "wg:", "tr:", "sv:", "antw:", "rif:", "rv:", "回复:", "答复:"}

// Check reports the first thing that keeps a text from being an honest letter: a part is
// missing or empty, it passes for an answer, or characters hide something.
func (t Text) Check() error {
	subject := strings.ToLower(strings.TrimSpace(t.Subject))
	for _, d := range disguises {
		if strings.HasPrefix(subject, d) {
			return problem.In("subject", "%q passes the letter off as an answer; say what it is about", t.Subject)
		}
	}
	for _, p := range []struct {
		field, text string
		least, most int
		lines       bool
		wanted      string
	}{
		{"subject", t.Subject, 2, MostSubject, false, "write what the letter is about"},
		{"body", t.Body, LeastBody, MostBody, true, "write a letter that a person can answer"},
		{"who", t.Who, LeastLine, MostLine, false, "write who you are, and where you can be reached"},
		{"why", t.Why, LeastLine, MostLine, false, "write how you come by the address, and why you write to it"},
	} {
		if why := wrongText(p.text, p.least, p.most, p.lines); why != "" {
			return problem.In(p.field, "%s: %s", why, p.wanted)
		}
	}
	return nil
}

// CheckReason reports what keeps a lawful reason from being one that somebody can stand by.
func CheckReason(reason string) error {
	if why := wrongText(reason, LeastOfReason, MostLine, false); why != "" {
		return problem.In("reason", "%s: give the legal basis on which you write to these people, such as their consent or a contract", why)
	}
	return nil
}

func wrongText(text string, least, most int, lines bool) string {
	if n := len([]rune(text)); n > most {
		return fmt.Sprintf("it has %d characters, and may have %d", n, most)
	}
	for _, r := range text {
		switch {
		case (r == '\n' || r == '\r' || r == '\t') && lines:
		case unicode.Is(unicode.Cc, r):
			return "it holds a line break or another control character"
		case unicode.Is(unicode.Cf, r), r == unicode.ReplacementChar:
			return fmt.Sprintf("it holds an invisible character (U+%04X)", r)
		}
	}
	if n := words(text); n < least {
		return fmt.Sprintf("it has %d words, and needs %d", n, least)
	}
	return ""
}

// words counts the words of a text: what holds a letter. Where a language sets no spaces, two
// letters count as one.
func words(text string) (n int) {
	for _, f := range strings.Fields(text) {
		letters, wide := 0, 0
		for _, r := range f {
			if unicode.IsLetter(r) {
				letters++
			}
			if unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Thai) {
				wide++
			}
		}
		if letters > 0 {
			n += max(1, wide/2)
		}
	}
	return n
}

// Letter returns the whole text of a letter: what was written, who writes and why, and the
// link by which one unsubscribes.
func (t Text) Letter(unsubscribe string) string {
	body := strings.TrimSpace(strings.ReplaceAll(t.Body, "\r\n", "\n"))
	return fmt.Sprintf("%s\n\n-- \n%s\n\n%s\n\nIf you would rather not hear from us again, unsubscribe here:\n%s\n", body, strings.TrimSpace(t.Who), strings.TrimSpace(t.Why), unsubscribe)
}
