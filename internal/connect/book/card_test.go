package book

import (
	"fmt"
	"strings"
	"testing"
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
