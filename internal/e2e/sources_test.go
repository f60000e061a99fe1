package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
	"varnet/internal/webhook"
)

// returned is a notice that there is no such mailbox, as a relay writes it.
func returned(address string) []byte {
	return []byte(strings.ReplaceAll(fmt.Sprintf(`From: MAILER-DAEMON@mx.fernhollow.example
To: returns@fernhollow.example
Subject: Undelivered Mail Returned to Sender
Message-ID: <back.%[1]s>
Date: Tue, 17 Mar 2026 07:30:00 +0000
Content-Type: multipart/report; report-type=delivery-status; boundary="=x"

--=x
Content-Type: text/plain

<%[1]s>: host mx.fernhollow.example said: 550 5.1.1 User unknown

--=x
Content-Type: message/delivery-status

Reporting-MTA: dns; mx.fernhollow.example

Final-Recipient: rfc822; %[1]s
Action: failed
Status: 5.1.1
Diagnostic-Code: smtp; 550 5.1.1 User unknown

--=x--
`, address), "\n", "\r\n"))
}

// bouncedOf returns the addresses of a mailing whose letters bounced for good.
func bouncedOf(t *testing.T, api *client.Client, mailing int64) (list []string) {
	t.Helper()
	p, err := api.MailingLetters(t.Context(), mailing, "", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range p.Items {
		if l.Permanent {
			list = append(list, l.Address)
		}
	}
	return list
}

// TestBounceMailbox reads a mailbox over IMAP: by itself and at once, once each; messages
// are moved, marked as seen or deleted as told, and what is wrong with it is said.
func TestBounceMailbox(t *testing.T) {
	t.Parallel()
	i, clock := testkit.World(t, "fernhollow"), newCalendar(t)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	m, err := api.ImportMailing(ctx, client.MailingTable{Name: "Members"}, strings.NewReader("email\nada@upperloam.example\nwren@orchard.example\nlinnea@attic.example\njonas@attic.example\n"))
	if err != nil {
		t.Fatal(err)
	}
	box, err := i.StartReturns("127.0.0.1:0", "returns", "beech hollow")
	if err != nil {
		t.Fatal(err)
	}
	deliver := func(messages ...[]byte) {
		t.Helper()
		for _, m := range messages {
			if err := box.Deliver(m); err != nil {
				t.Fatal(err)
			}
		}
	}
	deliver(returned("ada@upperloam.example"), []byte("From: bea@fernhollow.example\r\nSubject: Lunch?\r\n\r\nAt noon?\r\n"))
	settings := mailboxOf(box)
	b, err := api.MakeBounceSource(ctx, contract.NewBounceSource{Name: "Returns", Mailbox: &settings})
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, func() (bool, string) { // it is read by itself
		got := bouncedOf(t, api, m.ID)
		return slices.Equal(got, []string{"ada@upperloam.example"}), fmt.Sprint(got)
	})
	eventually(t, 20*time.Second, func() (bool, string) { // what was imported is moved after it is recorded
		inbox, unseen := box.Holds("INBOX")
		read, _ := box.Holds("Read")
		return inbox == 0 && read == 2, fmt.Sprintf("%d messages are in INBOX (%d not seen), %d in Read", inbox, unseen, read)
	})
	settings.Then, settings.ThenFolder, settings.Password = "flag", "", nil
	if b, err = api.ChangeBounceSource(ctx, b.ID, contract.NewBounceSource{Name: "Returns", Mailbox: &settings}); err != nil {
		t.Fatal(err)
	}
	deliver(returned("wren@orchard.example"))
	for range 2 {
		if b, err = api.ReadBounceSource(ctx, b.ID); err != nil || b.Failing {
			t.Fatalf("%v: %+v", err, b)
		}
	}
	if inbox, unseen := box.Holds("INBOX"); inbox != 1 || unseen != 0 || b.Messages != 3 || b.Says != "Nothing new." {
		t.Errorf("%d messages are in INBOX, %d of them not seen: %+v", inbox, unseen, b)
	}
	deliver(returned("linnea@attic.example"))
	clock.set(6 * time.Minute)
	eventually(t, 20*time.Second, func() (bool, string) {
		got := bouncedOf(t, api, m.ID)

		return len(got) == 3, fmt.Sprint(got)
	})
	settings.Then = "delete"
	if b, err = api.ChangeBounceSource(ctx, b.ID, contract.NewBounceSource{Name: "Returns", Mailbox: &settings}); err != nil {
		t.Fatal(err)
	}
	deliver(returned("jonas@attic.example"))
	if b, err = api.ReadBounceSource(ctx, b.ID); err != nil || len(bouncedOf(t, api, m.ID)) != 4 {
		t.Errorf("%v: %+v", err, b)
	}
	if inbox, _ := box.Holds("INBOX"); inbox != 2 {
		t.Errorf("%d messages are in INBOX, and of three one alone was to be deleted", inbox)
	}
	settings.Password = &box.Password
	holdMailboxFaults(t, api, settings, b.ID)
}

func mailboxOf(box *practice.Returns) contract.BounceMailbox {
	host, text, _ := net.SplitHostPort(box.Addr)
	port, _ := strconv.Atoi(text)
	return contract.BounceMailbox{Host: host, Port: port, Security: "none", Username: box.User, Password: &box.Password, Then: "move", ThenFolder: "Read"}
}

// holdMailboxFaults sees to it that what is wrong with a mailbox is said, and what cannot be
// is refused.
func holdMailboxFaults(t *testing.T, api *client.Client, settings contract.BounceMailbox, id int64) {
	t.Helper()
	ctx := t.Context()
	wrong := "quince"
	for what, c := range map[string]struct {
		change func(*contract.BounceMailbox)
		says   string
	}{
		"a wrong password": {func(m *contract.BounceMailbox) { m.Password = &wrong }, "does not let returns in"},
		"no such folder":   {func(m *contract.BounceMailbox) { m.Folder = "Elsewhere" }, "The folder Elsewhere cannot be opened"},
		"nobody there":     {func(m *contract.BounceMailbox) { m.Port = 9 }, "cannot be reached"},
		"another protocol": {func(m *contract.BounceMailbox) { m.Security = "tls" }, "does not answer as an IMAP server"},
	} {
		mailbox := settings
		c.change(&mailbox)
		b, err := api.MakeBounceSource(ctx, contract.NewBounceSource{Name: what, Mailbox: &mailbox})
		if err != nil {
			t.Fatal(err)
		}
		if b, err = api.ReadBounceSource(ctx, b.ID); err != nil || !b.Failing || !strings.Contains(b.Says, c.says) {
			t.Errorf("%s: %v: %+v", what, err, b)
		}
		if err := api.DeleteBounceSource(ctx, b.ID); err != nil {
			t.Error(err)
		}
	}
	for field, change := range map[string]func(*contract.BounceMailbox){
		"body.mailbox.security":   func(m *contract.BounceMailbox) { m.Host = "imap.fernhollow.example" },
		"body.mailbox.host":       func(m *contract.BounceMailbox) { m.Host = "imap fernhollow" },
		"body.mailbox.username":   func(m *contract.BounceMailbox) { m.Username = "" },
		"body.mailbox.thenFolder": func(m *contract.BounceMailbox) { m.Then = "move" },
	} {
		mailbox := settings
		change(&mailbox)
		if _, err := api.ChangeBounceSource(ctx, id, contract.NewBounceSource{Name: "Returns", Mailbox: &mailbox}); err == nil || !strings.Contains(err.Error(), field) {
			t.Errorf("%s: %v", field, err)
		}
	}
}

// TestBounceWebhook has a program tell what came back by signed calls: in its own names, or
// with the message; unsigned, forged and repeated calls change nothing.
func TestBounceWebhook(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	m, err := api.ImportMailing(ctx, client.MailingTable{Name: "Members"}, strings.NewReader("email\nada@upperloam.example\nwren@orchard.example\nlinnea@attic.example\n"))
	if err != nil {
		t.Fatal(err)
	}
	b, err := api.MakeBounceSource(ctx, contract.NewBounceSource{Name: "Letter service"})
	if err != nil || !strings.HasPrefix(b.Secret, "whsec_") || b.Path == "" {
		t.Fatalf("%v: %+v", err, b)
	}
	call := func(secret, kind, body string) (int, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.URL+b.Path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", kind)
		if secret != "" {
			if err := webhook.Sign(req.Header, "call-1", time.Now(), []byte(body), secret); err != nil {
				t.Fatal(err)
			}
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(text)
	}
	rows := `[{"email": "ada@upperloam.example", "event": "bounced", "reason": "550 5.1.1 User unknown"},
		{"email": "wren@orchard.example", "event": "bounced", "reason": "552 5.2.2 Mailbox full"}]`
	for what, secret := range map[string]string{"unsigned": "", "by another secret": webhook.NewSecret()} {
		if code, text := call(secret, "application/json", rows); code != http.StatusUnauthorized || len(bouncedOf(t, api, m.ID)) != 0 {
			t.Errorf("%s: %d %s", what, code, text)
		}
	}
	if code, text := call(b.Secret, "application/json", rows); code != http.StatusOK || !strings.Contains(text, `"bounced":1`) || !strings.Contains(text, `"passing":1`) {
		t.Errorf("%d %s", code, text)
	}
	if code, text := call(b.Secret, "application/json", rows); code != http.StatusOK || !strings.Contains(text, `"known":2`) {
		t.Errorf("called again: %d %s", code, text)
	}
	if code, text := call(b.Secret, "message/rfc822", string(bytes.ReplaceAll(returned("linnea@attic.example"), []byte("\r\n"), []byte("\n")))); code != http.StatusOK || len(bouncedOf(t, api, m.ID)) != 2 {
		t.Errorf("a message: %d %s", code, text)
	}
	for _, bad := range []string{"[", `[1, 2]`, `{"colour": "green"}`} {
		if code, text := call(b.Secret, "application/json", bad); code < 400 || code >= 500 {
			t.Errorf("%s: %d %s", bad, code, text)
		}
	}
	if list, err := api.BounceSources(ctx); err != nil || len(list.Items) != 1 || list.Items[0].Messages != 5 || list.Items[0].Secret != "" {
		t.Errorf("%v: %+v", err, list)
	}
}
