package book

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"
)

const card1 = "BEGIN:VCARD\r\nVERSION:4.0\r\nUID:urn:uuid:1\r\nFN:Björn Furrow\r\nitem1.EMAIL;PREF=1;TYPE=\"work,home\":bjoern@fernhollow.example\r\nEMAIL:mailto:b@upperloam.example\r\n" +
	"N:Furrow;Björn;;;\r\nNOTE:First\\, then\\nsecond; and a long line that is folded because it has more than seven\r\n ty-five bytes\r\nX-SHELF;X=\"a:b\":7\r\nCATEGORIES:seeds,old\\, dry\r\nPHOTO:data:image/png;base64,AAAA\r\nEND:VCARD\r\n"

// TestContact reads a card: the preferred address first, escapes and folds undone.
func TestContact(t *testing.T) {
	c := contact("/ada/members/1.vcf", card1)
	if got := strings.Join(c.Addresses, " "); got != "bjoern@fernhollow.example b@upperloam.example" {
		t.Error(got)
	}
	want := "[{FN Björn Furrow} {N Furrow, Björn} {NOTE First, then\nsecond; and a long line that is folded because it has more than seventy-five bytes} {X-SHELF 7} {CATEGORIES seeds, old, dry}]"
	if got := fmt.Sprint(c.Cells); got != want {
		t.Error(got)
	}
}

// TestEdits change one property of a card, and give its bytes back when they are undone.
func TestEdits(t *testing.T) {
	with := withValue(card1, property("mail state"), "undeliverable, ö; "+strings.Repeat("x", 80))
	if !strings.Contains(with, "\r\nX-MAIL-STATE:undeliverable\\, ö\\; xxx") || valueOf(with, "X-MAIL-STATE") != "undeliverable, ö; "+strings.Repeat("x", 80) {
		t.Error(with)
	}
	for _, line := range strings.Split(with, "\r\n") {
		if strings.HasPrefix(line, "X-MAIL") && len(line) > 75 {
			t.Errorf("a line of %d bytes", len(line))
		}
	}
	if got := withValue(with, "X-MAIL-STATE", ""); got != card1 {
		t.Errorf("it is not what it was:\n%s", got)
	}
	tagged := withCategory(card1, "bounces", true)
	if got := fmt.Sprintf("%q", categories(tagged)); got != `["seeds" "old, dry" "bounces"]` {
		t.Error(got)
	}
	if got := withCategory(tagged, "bounces", false); got != card1 {
		t.Errorf("it is not what it was:\n%s", got)
	}
	none := strings.Replace(card1, "CATEGORIES:seeds,old\\, dry\r\n", "", 1)
	if got := withCategory(withCategory(none, "bounces", true), "bounces", false); got != none {
		t.Errorf("it is not what it was:\n%s", got)
	}
}

// TestSeveralLines: of several lines of a property the first is read and changed, with its group and parameters; the others stay, and so
// nothing is lost when it is undone.
func TestSeveralLines(t *testing.T) {
	several := strings.Replace(card1, "X-SHELF", "item2.NOTE;LANGUAGE=en:A second note\r\nX-SHELF", 1)
	several = strings.Replace(several, "NOTE:First", "item1.NOTE;LANGUAGE=de:First", 1)
	before := valueOf(several, "NOTE")
	changed := withValue(several, "NOTE", "undeliverable")
	if !strings.Contains(changed, "\r\nitem1.NOTE;LANGUAGE=de:undeliverable\r\n") || !strings.Contains(changed, "\r\nitem2.NOTE;LANGUAGE=en:A second note\r\n") || valueOf(changed, "NOTE") != "undeliverable" {
		t.Error(changed)
	}
	back := withValue(changed, "NOTE", before)
	if fmt.Sprint(contact("/1", back)) != fmt.Sprint(contact("/1", several)) || !strings.Contains(back, "item1.NOTE;LANGUAGE=de:First") {
		t.Errorf("it is not what it was:\n%s", back)
	}
	if none := withValue(several, "NOTE", ""); strings.Contains(none, "First") || !strings.Contains(none, "A second note") {
		t.Error(none)
	}
}

// TestOddCards: cards that are not as the standard has them lose nothing.
func TestOddCards(t *testing.T) {
	for name, text := range map[string]string{
		"nothing":                "",
		"no end":                 "BEGIN:VCARD\r\nFN:Ada\r\n",
		"bare line ends":         "BEGIN:VCARD\nFN:Ada\nNOTE:dry\nEND:VCARD\n",
		"a fold at the start":    " FN:Ada\r\nEND:VCARD\r\n",
		"a line without colon":   "BEGIN:VCARD\r\nFN\r\nEND:VCARD\r\n",
		"an open quote":          "BEGIN:VCARD\r\nEMAIL;X=\"a:ada.moss@fernhollow.example\r\nEND:VCARD\r\n",
		"a backslash at the end": "BEGIN:VCARD\r\nCATEGORIES:a,b\\\r\nEND:VCARD\r\n",
	} {
		var again strings.Builder
		for _, l := range linesOf(text) {
			again.WriteString(l.raw)
		}
		if again.String() != text {
			t.Errorf("%s: %q became %q", name, text, again.String())
		}
		if got := withValue(withValue(text, "X-MAIL-STATE", "keep"), "X-MAIL-STATE", ""); got != text {
			t.Errorf("%s: %q is not what it was: %q", name, text, got)
		}
		_ = contact("/1", text) // and nothing ends over it
	}
	c := contact("/1", "BEGIN:VCARD\nEMAIL:b@fernhollow.example\nEMAIL;TYPE=internet,pref:a@fernhollow.example\nORG:Seed Library;Shed\nEND:VCARD\n")
	if fmt.Sprint(c.Addresses) != "[a@fernhollow.example b@fernhollow.example]" || fmt.Sprint(c.Cells) != "[{ORG Seed Library, Shed}]" {
		t.Errorf("%+v", c)
	}
}

// FuzzCards: whatever a card is, its lines give it back byte for byte, and a value that was written is read again.
func FuzzCards(f *testing.F) {
	f.Add(card1, "undeliverable, ö; two\nlines")
	f.Fuzz(func(t *testing.T, text, value string) {
		var again strings.Builder
		for _, l := range linesOf(text) {
			again.WriteString(l.raw)
		}
		if again.String() != text {
			t.Errorf("%q became %q", text, again.String())
		}
		with := withValue(text, "X-MAIL-STATE", value)
		if there := valueOf(with, "X-MAIL-STATE"); with != text && value != "" && utf8.ValidString(value) && !strings.Contains(value, "\r") && there != value {
			t.Errorf("%q is read as %q, of %q", value, there, with)
		}
	})
}
