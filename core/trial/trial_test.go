package trial

import (
	"errors"
	"strings"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/problem"
)

func honest() Text {
	return Text{"Your seeds for the spring", "Dear gardener,\n\nthe broad beans of last year did well, and we would like to send you some this spring. Just answer this letter.",
		"Fernhollow Seed Library, Mill Lane 4, letters@fernhollow.example", "You gave us your address at the seed fair in 2024."}
}

// TestCheck: an honest text passes, in any language; what is missing, disguised or hidden is
// named with its place.
func TestCheck(t *testing.T) {
	if err := honest().Check(); err != nil {
		t.Error(err)
	}
	chinese := honest()
	chinese.Body, chinese.Subject = "亲爱的园丁，去年的蚕豆长得很好，今年春天我们想寄一些给您。请直接回复这封信。", "春天的 种子"
	if err := chinese.Check(); err != nil {
		t.Error(err)
	}
	for name, c := range map[string]struct {
		change func(*Text)
		field  string
	}{
		"no subject":        {func(t *Text) { t.Subject = "" }, "subject"},
		"an answer to none": {func(t *Text) { t.Subject = " RE: your order" }, "subject"},
		"a header more":     {func(t *Text) { t.Subject = "Your seeds\r\nBcc: all@fernhollow.example" }, "subject"},
		"no letter":         {func(t *Text) { t.Body = " \n\t " }, "body"},
		"test":              {func(t *Text) { t.Body = "test" }, "body"},
		"dots":              {func(t *Text) { t.Body = strings.Repeat(". ", 50) }, "body"},
		"hidden characters": {func(t *Text) { t.Body += "\u200b" }, "body"},
		"turned letters":    {func(t *Text) { t.Who += "\u202e" }, "who"},
		"nobody":            {func(t *Text) { t.Who = "us" }, "who"},
		"no reason":         {func(t *Text) { t.Why = "" }, "why"},
		"a book":            {func(t *Text) { t.Body = strings.Repeat("seeds ", 2000) }, "body"},
	} {
		text := honest()
		c.change(&text)
		var w *problem.Field
		if err := text.Check(); !errors.As(err, &w) || w.Name != c.field {
			t.Errorf("%s: %v", name, err)
		}
	}
	if CheckReason("yes") == nil || CheckReason("They are members and agreed to letters when they joined") != nil {
		t.Error("lawful reasons are not told apart")
	}
}

// TestLetter: who writes, why, and the unsubscribe link are in every letter.
func TestLetter(t *testing.T) {
	text := honest()
	got := text.Letter("https://varnet.fernhollow.example/unsubscribe/1")
	for _, want := range []string{"broad beans", text.Who, text.Why, "\nhttps://varnet.fernhollow.example/unsubscribe/1\n"} {
		if !strings.Contains(got, want) {
			t.Errorf("it lacks %q:\n%s", want, got)
		}
	}
}

func TestFor(t *testing.T) {
	catchAll := func(traits ...finding.Trait) finding.Verdict {
		return finding.Conclude(finding.CatchAll, finding.MailboxAnyAccepted, traits)
	}
	for _, c := range []struct {
		v       finding.Verdict
		dropped bool
		want    LeftOut
	}{
		{catchAll(), false, Gets},
		{catchAll(finding.TraitRole), false, Gets},
		{catchAll(), true, Struck},
		{catchAll(finding.TraitUnsubscribed), false, Struck},
		{catchAll(finding.TraitTrapPattern), false, Harmful},
		{finding.ConcludeFrom(finding.MailboxSettled, nil), false, Settled},
		{finding.ConcludeFrom(finding.MailboxBounced, nil), false, BouncedOnce},
		{finding.Conclude(finding.Deliverable, finding.MailboxAccepted, nil), false, NoCatchAll},
	} {
		if got := For(c.v, c.dropped); got != c.want {
			t.Errorf("%+v: %q, want %q", c.v, got, c.want)
		}
	}
}

func TestTakes(t *testing.T) {
	day := 24 * time.Hour
	for _, c := range []struct {
		loads       []Load
		daily, sent int
		want        time.Duration
	}{
		{nil, 500, 0, 0},
		{[]Load{{1, time.Minute}}, 500, 0, 0},
		{[]Load{{11, time.Second}, {3, time.Minute}}, 500, 0, 2 * time.Minute},
		{[]Load{{500, Between}}, 500, 0, 499 * Between},
		{[]Load{{400, Between}, {101, Between}}, 500, 0, day},
		{[]Load{{400, Between}, {101, Between}}, 500, 500, 2 * day},
		{[]Load{{20_000, Between}}, 5000, 0, 19_999 * Between},
	} {
		if got := Takes(c.loads, c.daily, c.sent); got != c.want {
			t.Errorf("%v, %d a day, %d sent: %v, want %v", c.loads, c.daily, c.sent, got, c.want)
		}
	}
}
