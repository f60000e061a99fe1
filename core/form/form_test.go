package form_test

import (
	"fmt"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/form"
)

func TestOf(t *testing.T) {
	for _, c := range []struct {
		finding   finding.Finding
		cause     finding.Cause
		suggested bool
		want      form.Answer
	}{
		{finding.Deliverable, finding.MailboxAccepted, false, form.Usable},
		{finding.CatchAll, finding.MailboxAnyAccepted, false, form.Usable},
		{finding.CatchAll, finding.MailboxSettled, false, form.Usable},
		{finding.Undeliverable, finding.MailboxBounced, false, form.NotKnown},
		{finding.Undeliverable, finding.MailboxAbsent, false, form.NotUsable},
		{finding.Undeliverable, finding.DomainAbsent, false, form.NotUsable},
		{finding.Undeliverable, finding.DomainAbsent, true, form.TypingError},
		{finding.Deliverable, finding.MailboxAccepted, true, form.TypingError},
		{finding.Undecided, finding.ExchangerPostponed, false, form.NotKnown},
		{finding.Undecided, finding.RuleErased, false, form.NotKnown},
	} {
		if got := form.Of(finding.Verdict{Finding: c.finding, Cause: c.cause}, c.suggested); got != c.want {
			t.Errorf("%s, %s, %v: %s, want %s", c.finding, c.cause, c.suggested, got, c.want)
		}
	}
}

// An answer to a form never depends on what was learnt of a mailbox at a host that takes any.
func TestNothingOfCatchAlls(t *testing.T) {
	for _, i := range finding.Causes() {
		v := finding.Verdict{Finding: finding.CatchAll, Cause: i.Code}
		if got := form.Of(v, false); got != form.Usable && i.Code != finding.MailboxBounced {
			t.Errorf("%s: %s", i.Code, got)
		}
	}
}

func TestWait(t *testing.T) {
	last := time.Duration(0)
	for n := range 100 {
		wait := form.Wait(n)
		if wait < last || wait > 8*time.Second || n <= 5 && wait != 0 {
			t.Errorf("%d addresses: %v after %v", n, wait, last)
		}
		last = wait
	}
	if last != 8*time.Second {
		t.Errorf("the longest is %v", last)
	}
}

func TestEnumerated(t *testing.T) {
	for d, want := range map[form.Domain]bool{{0, 0}: false, {19, 19}: false, {20, 20}: true, {1000, 30}: false, {41, 20}: false, {59, 30}: true} {
		if d.Enumerated() != want {
			t.Errorf("%+v: %v", d, !want)
		}
	}
}

func ExampleOf() {
	fmt.Println(form.Of(finding.Verdict{Finding: finding.Undeliverable, Cause: finding.DomainAbsent}, true))
	// Output: typing-error
}
