//go:build interop

package interop

import (
	"fmt"
	"net/smtp"
	"strings"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// mailed is an address that a mailing goes to, and what must become of its letter.
type mailed struct {
	address, outcome string
	permanent        bool
	final            string // where it is forwarded to
	reason           string
}

// mailing is letters to mailboxes that exist and do not, that are full and switched off, at
// two hosts that refuse in words of their own, at one that forwards and bounces later, and at
// a domain that there is not.
func mailing() (all []mailed) {
	add := func(m mailed, format string, n int) {
		for i := range n {
			m.address = fmt.Sprintf(format, i)
			if strings.Contains(m.final, "%") {
				m.final = fmt.Sprintf(m.final, i)
			}
			all = append(all, m)
		}
	}
	add(mailed{outcome: "open"}, "member%02d@prompt.test", 25)
	add(mailed{outcome: "bounced", permanent: true, reason: "mailbox.absent"}, "gone%d@prompt.test", 20)
	add(mailed{outcome: "open"}, "kept%d@late.test", 10)
	add(mailed{outcome: "bounced", permanent: true, reason: "mailbox.absent"}, "gone%d@late.test", 10)
	add(mailed{outcome: "bounced", reason: "mailbox.full"}, "full%d@late.test", 5)
	add(mailed{outcome: "open"}, "here%d@forward.test", 5)
	for i := range 5 {
		all = append(all, mailed{fmt.Sprintf("away%d@forward.test", i), "bounced", true, fmt.Sprintf("gone%d@prompt.test", i), "mailbox.absent"})
	}
	return append(all, mailed{"full@prompt.test", "bounced", false, "", "mailbox.full"}, mailed{"off@prompt.test", "bounced", true, "", "mailbox.disabled"},
		mailed{"ada@nowhere.invalid", "bounced", true, "", "domain.absent"})
}

// relays are the Postfixes of the test: the one that we hand letters to, and the hosts that
// they are for. All hand what comes back to a door of Varnet, by LMTP.
func relays(door string) []site {
	routes := "returns.test lmtp:" + strings.Replace(door, "127.0.0.1", "[127.0.0.1]", 1) + "\nprompt.test smtp:[127.30.1.2]:{port}\nlate.test smtp:[127.30.1.3]:{port}\nforward.test smtp:[127.30.1.4]:{port}\n"
	ours := "transport_maps = texthash:{dir}/transport\nmynetworks = 127.0.0.0/8\nsmtpd_relay_restrictions = permit_mynetworks, reject\nsmtp_dns_support_level = disabled\nsmtp_host_lookup = native\n"
	var late, forwards strings.Builder
	for i := range 10 {
		fmt.Fprintf(&late, "gone%d@late.test error:5.1.1 user unknown\nfull%d@late.test error:5.2.2 mailbox full\n", i, i)
		fmt.Fprintf(&forwards, "here%d@forward.test member%02d@prompt.test\naway%d@forward.test gone%d@prompt.test\n", i, i, i, i)
	}
	return []site{
		{domain: "out.test", addr: "127.30.1.1", settings: ours + "relay_domains = returns.test, prompt.test, late.test, forward.test\nvirtual_mailbox_domains =", files: map[string]string{"transport": routes}},
		{domain: "prompt.test", addr: "127.30.1.2", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes"},
		{domain: "late.test", addr: "127.30.1.3", settings: ours + "relay_domains = returns.test\nvirtual_mailbox_maps = static:all", files: map[string]string{"transport": late.String() + "late.test discard:\n" + routes[:strings.Index(routes, "\n")+1]}},
		{domain: "forward.test", addr: "127.30.1.4", settings: ours + "relay_domains = returns.test, prompt.test\nvirtual_mailbox_maps = static:all\nvirtual_alias_maps = texthash:{dir}/virtual", files: map[string]string{"transport": routes, "virtual": forwards.String()}},
	}
}

// TestRealBounces really sends a mailing through Postfix to Postfix, with a return address of
// its own for each letter, and holds what came of it against the truth.
func TestRealBounces(t *testing.T) {
	door := fmt.Sprintf("127.0.0.1:%d", free())
	world := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), world), "VARNET_RETURNS=lmtp://"+door, "VARNET_RETURNS_DOMAIN=returns.test"))
	for _, r := range relays(door) {
		r.start(t)
	}
	api, truth := client.New(s.URL, s.Key), map[string]mailed{}
	table := "address\n"
	for _, m := range mailing() {
		truth[m.address] = m
		table += m.address + "\n"
	}
	m, err := api.ImportMailing(t.Context(), client.MailingTable{Name: "Spring letter"}, strings.NewReader(table))
	if err != nil || int(m.Letters) != len(truth) {
		t.Fatalf("%v: %+v", err, m)
	}
	letters, err := api.MailingLetters(t.Context(), m.ID, "", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range letters.Items {
		text := fmt.Sprintf("From: Fernhollow Seed Library <letters@fernhollow.example>\r\nTo: %s\r\nSubject: Spring letter\r\nMessage-ID: <%d@fernhollow.example>\r\n\r\nThe broad beans are in.\r\n", l.Address, l.Number)
		if err := smtp.SendMail(fmt.Sprintf("127.30.1.1:%d", port), nil, l.Return, []string{l.Address}, []byte(text)); err != nil {
			t.Fatalf("%s: %v", l.Address, err)
		}
	}
	bounces := 0
	for _, m := range truth {
		if m.outcome == "bounced" {
			bounces++
		}
	}
	for end := time.Now().Add(90 * time.Second); ; time.Sleep(500 * time.Millisecond) {
		if m, err = api.Mailing(t.Context(), m.ID); err != nil {
			t.Fatal(err)
		}
		if int(m.Outcomes.Bounced+m.Outcomes.Passing) >= bounces || time.Now().After(end) {
			break
		}
	}
	after, err := api.MailingLetters(t.Context(), m.ID, "", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range after.Items {
		if problem := wrongLetter(l, truth[l.Address]); problem != "" {
			t.Errorf("%s: %s: %+v", l.Address, problem, l)
		}
	}
	t.Logf("%s", m.Says)
}

func wrongLetter(l contract.Letter, want mailed) string {
	switch {
	case l.Outcome != want.outcome || l.Permanent != want.permanent:
		return fmt.Sprintf("it should be %s (for good: %v)", want.outcome, want.permanent)
	case l.Reason != want.reason:
		return "the reason should be " + want.reason
	case want.final != "" && l.Final != want.final:
		return "it was forwarded to " + want.final
	}
	return ""
}
