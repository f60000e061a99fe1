package bounce

import (
	"testing"
	"time"

	"varnet/core/finding"
)

var march = time.Date(2026, 3, 17, 7, 30, 0, 0, time.UTC)

func known(o Outcome, permanent bool, days int) Known {
	return Known{Outcome: o, Permanent: permanent, At: march.AddDate(0, 0, days)}
}

func TestOutweighs(t *testing.T) {
	gone, passing, silent := known(Bounced, true, 0), known(Bounced, false, 0), known(NoBounce, false, 0)
	for _, c := range []struct {
		name        string
		now, before Known
		want        bool
	}{
		{"the first", gone, Known{}, true},
		{"a bounce after silence", known(Bounced, true, 3), silent, true},
		{"silence of before the bounce", known(NoBounce, false, -3), gone, false},
		{"silence after the bounce", known(NoBounce, false, 9), gone, true},
		{"what passes after silence", known(Bounced, false, 3), silent, false},
		{"a delay after a bounce for good", known(Late, false, 3), gone, false},
		{"a bounce after a delay", gone, known(Late, false, -1), true},
		{"a complaint after anything", known(Complained, false, -9), gone, true},
		{"anything after a complaint", gone, known(Complained, false, -9), false},
		{"a wish for no more messages after a bounce", known(Unsubscribed, false, -9), gone, true},
		{"a bounce after that wish", known(Bounced, true, 9), known(Unsubscribed, false, 0), false},
		{"a complaint after that wish", known(Complained, false, -9), known(Unsubscribed, false, 0), true},
		{"that wish after a complaint", known(Unsubscribed, false, 9), known(Complained, false, 0), false},
		{"what passes, later", known(Bounced, false, 3), passing, true},
	} {
		if got := c.now.Outweighs(c.before); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
	}
}

func TestVerdictOfOutcome(t *testing.T) {
	role := finding.Traits{finding.TraitRole}
	catchAll := finding.Conclude(finding.CatchAll, finding.MailboxAnyAccepted, role)
	deliverable := finding.Conclude(finding.Deliverable, finding.MailboxAccepted, role)
	now := march.AddDate(0, 0, 10)
	for _, c := range []struct {
		name    string
		k       Known
		found   finding.Verdict
		cause   finding.Cause
		changed bool
	}{
		{"bounced for good", known(Bounced, true, 0), deliverable, finding.MailboxBounced, true},
		{"bounced, nothing found", known(Bounced, true, 0), finding.Verdict{}, finding.MailboxBounced, true},
		{"bounced, and known so", known(Bounced, true, 0), finding.ConcludeFrom(finding.MailboxBounced, nil), finding.MailboxBounced, false},
		{"bounced, passing", known(Bounced, false, 0), deliverable, finding.MailboxAccepted, false},
		{"silence at a catch-all", known(NoBounce, false, 0), catchAll, finding.MailboxSettled, true},
		{"silence at a mailbox", known(NoBounce, false, 0), deliverable, finding.MailboxAccepted, false},
		{"silence long ago", known(NoBounce, false, -200), catchAll, finding.MailboxAnyAccepted, false},
		{"a delay", known(Late, false, 0), catchAll, finding.MailboxAnyAccepted, false},
		{"a complaint, nothing found", known(Complained, false, 0), finding.Verdict{}, "", false},
	} {
		v, changed := c.k.Verdict(c.found, now)
		if v.Cause != c.cause || changed != c.changed {
			t.Errorf("%s: %s, %v", c.name, v.Cause, changed)
		}
		if changed && c.found.Cause != "" && !v.Traits.Has(finding.TraitRole) {
			t.Errorf("%s: the traits are %v", c.name, v.Traits)
		}
	}
	v, changed := known(Complained, false, 0).Verdict(deliverable, now)
	if !changed || v.Finding != finding.Deliverable || len(v.Traits.Harmful()) != 1 {
		t.Errorf("a complaint: %+v, %v", v, changed)
	}
}
