//go:build interop

package interop

import (
	"fmt"
	"maps"
	"net/smtp"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
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
	add(mailed{outcome: "open"}, "kept%d@exim.test", 3)
	add(mailed{outcome: "bounced", permanent: true, reason: "mailbox.absent"}, "gone%d@exim.test", 5)
	add(mailed{outcome: "open"}, "kept%d@eximlate.test", 3)
	add(mailed{outcome: "bounced", permanent: true, reason: "mailbox.absent"}, "gone%d@eximlate.test", 5)
	return append(all, mailed{"full@prompt.test", "bounced", false, "", "mailbox.full"}, mailed{"off@prompt.test", "bounced", true, "", "mailbox.disabled"},
		mailed{"ada@nowhere.invalid", "bounced", true, "", "domain.absent"})
}

// relays are the Postfixes of the test: the one that we hand letters to, and the hosts that
// they are for. What comes back to returns.test is handed to a door of Varnet, by LMTP; what
// comes back to box.test lies in Maildirs of a folder. passOn is where the letterbox of the
// practice internet takes letters for its hosts.
func relays(door, mail, passOn string) []site {
	routes := "returns.test lmtp:" + strings.Replace(door, "127.0.0.1", "[127.0.0.1]", 1) + "\nbox.test {box}\nexim.test smtp:[" + eximAt + "]:{port}\neximlate.test smtp:[" + eximAt + "]:{port}\n" +
		practiceDomain + " smtp:" + strings.Replace(passOn, "127.0.0.1", "[127.0.0.1]", 1) + "\nprompt.test smtp:[127.30.1.2]:{port}\nlate.test smtp:[127.30.1.3]:{port}\nforward.test smtp:[127.30.1.4]:{port}\n"
	ours := "transport_maps = texthash:{dir}/transport\nmynetworks = 127.0.0.0/8\nsmtpd_relay_restrictions = permit_mynetworks, reject\nsmtp_dns_support_level = disabled\nsmtp_host_lookup = native\n"
	var late, forwards strings.Builder
	for i := range 10 {
		fmt.Fprintf(&late, "gone%d@late.test error:5.1.1 user unknown\nfull%d@late.test error:5.2.2 mailbox full\n", i, i)
		fmt.Fprintf(&forwards, "here%d@forward.test member%02d@prompt.test\naway%d@forward.test gone%d@prompt.test\n", i, i, i, i)
	}
	toOut := strings.Replace(routes, "{box}", "smtp:[127.30.1.1]:{port}", 1)
	back := toOut[:strings.Index(toOut, "exim.test ")]
	return []site{
		{domain: "out.test", addr: "127.30.1.1", settings: ours + "relay_domains = returns.test, prompt.test, late.test, forward.test, exim.test, eximlate.test, " + practiceDomain +
			"\nvirtual_mailbox_domains = box.test\nvirtual_transport = virtual\nvirtual_mailbox_base = " + mail + "\nvirtual_mailbox_maps = texthash:{dir}/boxes\nvirtual_minimum_uid = 1\nvirtual_uid_maps = static:" + mailUser +
			"\nvirtual_gid_maps = static:" + mailUser + "\nrecipient_delimiter = +", files: map[string]string{"transport": strings.Replace(routes, "{box}", "virtual:", 1), "boxes": "bounces@box.test bounces/\nfiled@box.test filed/\n"}},
		{domain: "prompt.test", addr: "127.30.1.2", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes"},
		{domain: "late.test", addr: "127.30.1.3", settings: ours + "relay_domains = returns.test, box.test\nvirtual_mailbox_maps = static:all", files: map[string]string{"transport": late.String() + "late.test discard:\n" + back}},
		{domain: "forward.test", addr: "127.30.1.4", settings: ours + "relay_domains = returns.test, box.test, prompt.test\nvirtual_mailbox_maps = static:all\nvirtual_alias_maps = texthash:{dir}/virtual", files: map[string]string{"transport": toOut, "virtual": forwards.String()}},
	}
}

// practiceDomain is a catch-all domain of the practice internet: its host takes every letter
// and sends notices by itself afterwards.
const practiceDomain = "sundial-nursery.example"

// atPractice are letters to people of the practice internet, with what must become of them.
func atPractice(w *practice.World) (all []mailed) {
	for n := range 30 {
		m := mailed{address: fmt.Sprintf("%s@%s", practice.Local(n), practiceDomain), outcome: "open"}
		for _, back := range w.ComesBack([]practice.Posted{{To: m.address}}, true) {
			switch back.Means {
			case practice.BouncedForGood:
				m.outcome, m.permanent = "bounced", true
			case practice.BouncedPassing:
				m.outcome = "bounced"
			case practice.StillTried:
				m.outcome = "delayed"
			case practice.ComplainedOf:
				m.outcome = "complained"
			}
		}
		all = append(all, m)
	}
	return all
}

// way is how what comes back after a mailing is read.
type way struct {
	name string
	id   int64 // of the mailing
	// table is the line of the table of whom it went to, returns its return address (MAIL FROM).
	header  string
	table   func(n int, address string) string
	returns func(n int, l contract.Letter) string
}

var ways = []way{
	{name: "LMTP", header: "address", table: func(_ int, address string) string { return address },
		returns: func(_ int, l contract.Letter) string { return l.Return }},
	{name: "IMAP", header: "address,tag", table: func(n int, address string) string { return fmt.Sprintf("%s,spring%d", address, n) },
		returns: func(n int, _ contract.Letter) string { return fmt.Sprintf("bounces+spring%d@box.test", n) }},
	{name: "file", header: "address,message-id", table: func(n int, address string) string { return fmt.Sprintf("%s,<%s>", address, filedID(n)) },
		returns: func(int, contract.Letter) string { return "filed@box.test" }},
}

func filedID(n int) string { return fmt.Sprintf("filed.%d@fernhollow.example", n) }

// TestRealBounces really sends three mailings through Postfix to Postfix, Exim and practice
// hosts. What comes back is read by LMTP at return addresses of Varnet's own, by IMAP (Dovecot),
// and as a file: the outcome of every letter is held against the truth.
func TestRealBounces(t *testing.T) {
	door, mail, password := fmt.Sprintf("127.0.0.1:%d", free()), mailFolder(t), "beech-hollow"
	world := testkit.World(t, "fernhollow")
	box, err := world.StartLetterbox("127.0.0.1:0", "127.0.0.1:0", "", "")
	if err == nil {
		err = box.PassOn(world.World, fmt.Sprintf("smtp://127.30.1.1:%d", port), 300*time.Millisecond, true)
	}
	if err != nil {
		t.Fatal(err)
	}
	certificate := startDovecot(t, mail, password)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), world), "VARNET_RETURNS=lmtp://"+door, "VARNET_RETURNS_DOMAIN=returns.test", "SSL_CERT_FILE="+certificate))
	for _, r := range relays(door, mail, box.SMTP) {
		r.start(t)
	}
	startExim(t)
	api, truth := client.New(s.URL, s.Key), map[string]mailed{}
	for _, m := range append(mailing(), atPractice(world.World)...) {
		truth[m.address] = m
	}
	for n := range ways {
		ways[n].send(t, api, truth)
	}
	source, err := api.MakeBounceSource(t.Context(), contract.NewBounceSource{Name: "Returns", Mailbox: &contract.BounceMailbox{Host: dovecotAt, Port: port, Security: "tls", Username: "bounces", Password: &password, Then: "move", ThenFolder: "Read"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range ways {
		t.Run(w.name, func(t *testing.T) {
			w.await(t, api, truth, func() {
				switch w.name {
				case "IMAP":
					if b, err := api.ReadBounceSource(t.Context(), source.ID); err != nil || b.Failing {
						t.Fatalf("%v: %+v", err, b)
					}
				case "file":
					if _, err := api.ImportBounces(t.Context(), zipOf(t, filepath.Join(mail, "filed"))); err != nil {
						t.Fatal(err)
					}
				}
			})
		})
	}
	if read, err := filepath.Glob(filepath.Join(mail, "bounces", ".Read", "[cn]*", "*")); err != nil || len(read) == 0 {
		t.Errorf("%d messages were moved: %v", len(read), err)
	}
}

// send registers the mailing and hands its letters to Postfix.
func (w *way) send(t *testing.T, api *client.Client, truth map[string]mailed) {
	t.Helper()
	addresses := slices.Sorted(maps.Keys(truth))
	table := w.header + "\n"
	for n, a := range addresses {
		table += w.table(n+1, a) + "\n"
	}
	m, err := api.ImportMailing(t.Context(), client.MailingTable{Name: "Spring letter, " + w.name}, strings.NewReader(table))
	if err != nil || int(m.Letters) != len(truth) {
		t.Fatalf("%v: %+v", err, m)
	}
	w.id = m.ID
	letters, err := api.MailingLetters(t.Context(), m.ID, "", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range letters.Items {
		id := fmt.Sprintf("%s.%d@fernhollow.example", w.name, l.Number)
		if w.name == "file" {
			id = filedID(l.Number)
		}
		text := fmt.Sprintf("From: Fernhollow Seed Library <letters@fernhollow.example>\r\nTo: %s\r\nSubject: Spring letter\r\nMessage-ID: <%s>\r\n\r\nThe broad beans are in.\r\n", l.Address, id)
		if err := smtp.SendMail(fmt.Sprintf("127.30.1.1:%d", port), nil, w.returns(l.Number, l), []string{l.Address}, []byte(text)); err != nil {
			t.Fatalf("%s: %v", l.Address, err)
		}
	}
}

// await reads what comes back until all is as it must be, or a minute and a half is over.
func (w *way) await(t *testing.T, api *client.Client, truth map[string]mailed, read func()) {
	t.Helper()
	var problems []string
	for end := time.Now().Add(90 * time.Second); time.Now().Before(end); time.Sleep(500 * time.Millisecond) {
		read()
		after, err := api.MailingLetters(t.Context(), w.id, "", "")
		if err != nil {
			t.Fatal(err)
		}
		problems = problems[:0]
		for _, l := range after.Items {
			if problem := wrongLetter(l, truth[l.Address]); problem != "" {
				problems = append(problems, fmt.Sprintf("%s: %s: %+v", l.Address, problem, l))
			}
		}
		if len(problems) == 0 {
			break
		}
	}
	for _, p := range problems {
		t.Error(p)
	}
	m, err := api.Mailing(t.Context(), w.id)
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%s", m.Says)
}

func wrongLetter(l contract.Letter, want mailed) string {
	switch {
	case l.Outcome != want.outcome || l.Permanent != want.permanent:
		return fmt.Sprintf("it should be %s (for good: %v)", want.outcome, want.permanent)
	case want.reason != "" && l.Reason != want.reason:
		return "the reason should be " + want.reason
	case want.final != "" && l.Final != want.final:
		return "it was forwarded to " + want.final
	}
	return ""
}
