package bounce

import (
	"testing"

	"varnet/core/finding"
)

func TestFromRow(t *testing.T) {
	for _, c := range []struct {
		outcome, reason string
		kind            Kind
		permanent       bool
		cause           finding.Cause
	}{
		{"Hard bounce", "550 5.1.1 user unknown", Bounce, true, finding.MailboxAbsent},
		{"hard_bounce", "552 5.2.2 mailbox full", Bounce, false, finding.MailboxFull},
		{"Hard Bounce", "", Bounce, true, finding.MailboxUnclear},
		{"Soft bounce", "", Bounce, false, finding.MailboxUnclear},
		{"soft", "550 5.1.1 user unknown", Bounce, false, finding.MailboxAbsent},
		{"Blocked", "554 5.7.1 your ip is on a blocklist", Bounce, false, finding.ExchangerBlocksUs},
		{"bounced", "554 5.7.1 your ip is on a blocklist", Bounce, false, finding.ExchangerBlocksUs},
		{"Deferred", "451 4.7.1 greylisted", Delay, false, finding.ExchangerPostponed},
		{"Unzustellbar", "Das Postfach existiert nicht", Bounce, true, finding.MailboxAbsent},
		{"Spam complaint", "", Complaint, false, ""},
		{"Delivered", "", Other, false, ""},
		{"opened", "", Other, false, ""},
		{"", "", Other, false, ""},
	} {
		n := FromRow(Row{Address: "ada@upperloam.example", Outcome: c.outcome, Reason: c.reason}, Guess(c.outcome))
		var r Recipient
		if len(n.Recipients) > 0 {
			r = n.Recipients[0]
		}
		if n.Kind != c.kind || r.Permanent != c.permanent || r.Meaning.Cause != c.cause {
			t.Errorf("%q, %q: %s, for good: %v, %s", c.outcome, c.reason, n.Kind, r.Permanent, r.Meaning.Cause)
		}
	}
}
