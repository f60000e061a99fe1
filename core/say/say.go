// Package say puts numbers, plurals, lists of words and lengths of time into English
// sentences, the same way everywhere.
package say

import (
	"errors"
	"fmt"
	"io/fs"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Number returns a number with commas between the thousands.
func Number(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Plural returns how many there are of what is called so: "1 row", "1,200 rows".
func Plural(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Number(n) + " " + many
}

// Rows returns a number of rows.
func Rows(n int64) string { return Plural(n, "row", "rows") }

// Addresses returns a number of addresses.
func Addresses(n int64) string { return Plural(n, "address", "addresses") }

// And joins words: "a", "a and b", "a, b and c".
func And(words ...string) string { return joined(words, " and ") }

// Or joins words: "a", "a or b", "a, b or c".
func Or(words ...string) string { return joined(words, " or ") }

func joined(words []string, last string) string {
	if n := len(words); n > 1 {
		return strings.Join(words[:n-1], ", ") + last + words[n-1]
	}
	return strings.Join(words, "")
}

// SomeAnd joins the first words as And does, at most so many, and counts the others:
// "a, b and 3 more".
func SomeAnd(words []string, most int) string { return And(some(words, most)...) }

// SomeOr joins the first words as Or does, at most so many, and counts the others.
func SomeOr(words []string, most int) string { return Or(some(words, most)...) }

func some(words []string, most int) []string {
	if len(words) <= most {
		return words
	}
	return append(append([]string{}, words[:most]...), Number(int64(len(words)-most))+" more")
}

// Span returns a length of time in one unit, as an expectation is said: seconds under a
// minute and a half, minutes under an hour and a half, else hours.
func Span(d time.Duration) string {
	switch s := d.Seconds(); {
	case s < 90:
		return Plural(int64(math.Ceil(s)), "second", "seconds")
	case s < 5400:
		return Plural(int64(math.Round(s/60)), "minute", "minutes")
	case d%time.Hour == 0:
		return Plural(int64(d.Hours()), "hour", "hours")
	}
	return fmt.Sprintf("%.1f hours", d.Hours())
}

// Duration returns how long something took, in its two largest units; at least a second.
func Duration(d time.Duration) string {
	d = max(time.Second, d.Round(time.Second))
	hours, minutes, seconds := int64(d.Hours()), int64(d.Minutes())%60, int64(d.Seconds())%60
	switch {
	case hours > 0:
		return Plural(hours, "hour", "hours") + " " + Plural(minutes, "minute", "minutes")
	case minutes > 0:
		return Plural(minutes, "minute", "minutes") + " " + Plural(seconds, "second", "seconds")
	}
	return Plural(seconds, "second", "seconds")
}

// Sentence makes a text a sentence: with a capital letter and a full stop.
func Sentence(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	if size == 0 {
		return ""
	}
	text = string(unicode.ToUpper(first)) + text[size:]
	if strings.HasSuffix(text, ".") {
		return text
	}
	return text + "."
}

// Line is a text on one line, without anything that steers a terminal or turns the direction of
// writing.
func Line(text string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}, text)
}

// IsText reports whether s is text that a database takes: UTF-8 without NUL.
func IsText(s string) bool { return strings.IndexByte(s, 0) < 0 && utf8.ValidString(s) }

// AsText returns s as such text, with U+FFFD in place of NUL and of bytes that are not UTF-8.
func AsText(s string) string {
	if IsText(s) {
		return s
	}
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\ufffd"), "\x00", "\ufffd")
}

// Clip cuts a text to at most so many bytes, never within a character: half of one is not UTF-8, which no database takes.
func Clip(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return text[:most]
}

// Shorten cuts a text as Clip does, and puts “…” where something is missing.
func Shorten(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return Clip(text, most) + "…"
}

// Outside makes words from outside safe to keep and show: with a space for each character that controls a terminal or
// the direction of writing, and U+FFFD for bytes that are not UTF-8. Line breaks and tabs stay.
func Outside(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || unicode.IsPrint(r) {
			return r
		}
		return ' '
	}, text)
}

// WithoutPath takes operation and name off an error of the file system, for a sentence that
// has them already.
func WithoutPath(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}
