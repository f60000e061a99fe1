package say_test

import (
	"fmt"
	"math"
	"testing"
	"time"

	"varnet/core/say"
)

func Example() {
	fmt.Println(say.Rows(1), "and", say.Rows(1200))
	fmt.Println("Imported:", say.SomeAnd([]string{"members", "guests", "donors", "volunteers"}, 3))
	fmt.Println("It took", say.Duration(95*time.Second), "and was expected to take", say.Span(95*time.Second))
	// Output:
	// 1 row and 1,200 rows
	// Imported: members, guests, donors and 1 more
	// It took 1 minute 35 seconds and was expected to take 2 minutes
}

func TestNumber(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", -1: "-1", -999: "-999", -1234567: "-1,234,567", math.MaxInt64: "9,223,372,036,854,775,807"} {
		if got := say.Number(n); got != want {
			t.Errorf("%d is said %q, want %q", n, got, want)
		}
	}
}

func TestJoinedWords(t *testing.T) {
	words := []string{"a", "b", "c", "d"}
	for n, want := range []string{"", "a", "a or b", "a, b or c", "a, b, c or d"} {
		if got := say.Or(words[:n]...); got != want {
			t.Errorf("%d words: %q, want %q", n, got, want)
		}
		if got := say.SomeOr(words[:n], 4); got != want {
			t.Errorf("%d words of at most 4: %q, want %q", n, got, want)
		}
	}
	if got := say.SomeAnd(words, 1); got != "a and 3 more" || words[1] != "b" {
		t.Errorf("%q of %v", got, words)
	}
}

func TestTimes(t *testing.T) {
	for d, want := range map[time.Duration][2]string{
		0:                                     {"0 seconds", "1 second"},
		time.Second:                           {"1 second", "1 second"},
		89 * time.Second:                      {"89 seconds", "1 minute 29 seconds"},
		90 * time.Second:                      {"2 minutes", "1 minute 30 seconds"},
		time.Hour:                             {"60 minutes", "1 hour 0 minutes"},
		2 * time.Hour:                         {"2 hours", "2 hours 0 minutes"},
		90*time.Minute + 61*time.Second:       {"1.5 hours", "1 hour 31 minutes"},
		1001*time.Hour + 500*time.Millisecond: {"1001.0 hours", "1,001 hours 0 minutes"},
	} {
		if got := [2]string{say.Span(d), say.Duration(d)}; got != want {
			t.Errorf("%v is said %q, want %q", d, got, want)
		}
	}
}

func TestSentence(t *testing.T) {
	for in, want := range map[string]string{"": "", "it is off": "It is off.", "écrit": "Écrit.", "Done.": "Done."} {
		if got := say.Sentence(in); got != want {
			t.Errorf("%q: %q", in, got)
		}
	}
}

// TestClip: a text is never cut within a character.
func TestClip(t *testing.T) {
	const text = "aß語🌱z" // characters of one, two, three, four bytes and one
	for most, want := range []string{"", "a", "a", "aß", "aß", "aß", "aß語", "aß語", "aß語", "aß語", "aß語🌱", text, text} {
		if got := say.Clip(text, most); got != want {
			t.Errorf("%d bytes: %q, not %q", most, got, want)
		}
		if got := say.Shorten(text, most); got != want && got != want+"…" || (got == text) != (most >= len(text)) {
			t.Errorf("%d bytes, shortened: %q", most, got)
		}
	}
}

// TestOutside: words from outside control no terminal, and are UTF-8.
func TestOutside(t *testing.T) {
	if got := say.Outside("no\x00 \x1b[31msuch\tuser\r\n\u202etxt.exe\xd1 – Нет"); got != "no   [31msuch\tuser \n txt.exe\ufffd – Нет" {
		t.Errorf("%q", got)
	}
}
