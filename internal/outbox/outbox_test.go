package outbox

import (
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"varnet/core/event"
	"varnet/internal/account"
	"varnet/internal/store"
)

// TestConcerns: who sees which kinds of events.
func TestConcerns(t *testing.T) {
	scopes := func(r account.Role) account.Caller {
		return account.Caller{WorkspaceID: 1, PersonID: 2, Scopes: append(r.Scopes(false), account.Self)}
	}
	installation := scopes(account.Owner)
	installation.Scopes = append(installation.Scopes, account.Installation)
	for name, x := range map[string]struct {
		c                          account.Caller
		run, joined, route, device bool
	}{
		"a reader":   {scopes(account.Reader), true, false, false, true},
		"a member":   {scopes(account.Member), true, false, false, true},
		"a manager":  {scopes(account.Manager), true, true, false, true},
		"the keeper": {installation, true, true, true, true},
		"a key":      {account.Caller{KeyID: 3, Scopes: []account.Scope{account.Check}}, false, false, false, false},
	} {
		for code, want := range map[event.Code]bool{event.RunFinished: x.run, event.MemberJoined: x.joined, event.OutboundFailed: x.route, event.DeviceNew: x.device} {
			k, _ := event.Of(code)
			if got := Concerns(x.c, k); got != want {
				t.Errorf("%s, %s: %v", name, code, got)
			}
		}
		if v := ViewOf(x.c); len(v.Operators) > 0 != x.route || strings.Contains(strings.Join(names(v.Codes), " "), string(event.WebhookTest)) {
			t.Errorf("%s sees %+v", name, v)
		}
	}
}

func names(codes []event.Code) (out []string) {
	for _, c := range codes {
		out = append(out, string(c))
	}
	return out
}

func TestRetryAfter(t *testing.T) {
	for text, want := range map[string]time.Duration{"": 0, "30": 30 * time.Second, "-5": 0, "soon": 0, "99999999": 24 * time.Hour, "Sat, 28 Nov 1998 10:00:00 GMT": 0} {
		if got := retryAfter(text); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
	if got := retryAfter(time.Now().Add(time.Hour).UTC().Format("Mon, 02 Jan 2006 15:04:05 GMT")); got < 50*time.Minute || got > time.Hour {
		t.Errorf("in an hour: %v", got)
	}
}

func TestCheckURL(t *testing.T) {
	open, closed := &Outbox{AllowPrivate: true}, &Outbox{}
	for address, ok := range map[string]bool{"https://hooks.fernhollow.example/varnet?token=1": true, "http://hooks.fernhollow.example/": false, "https:///": false, "https://ada@hooks.fernhollow.example/": false,
		"https://hooks.fernhollow.example/ x": false, "gopher://hooks.fernhollow.example/": false} {
		if err := closed.CheckURL(address); (err == nil) != ok {
			t.Errorf("%s: %v", address, err)
		}
	}
	if open.CheckURL("http://127.0.0.1:9/") != nil || open.CheckURL("http://localhost/") == nil || closed.CheckURL("http://127.0.0.1:9/") == nil {
		t.Error("plain HTTP is for loopback where private addresses are allowed, and by its number")
	}
}

// TestShown: what comes from outside is kept without what would act on a terminal or page.
func TestShown(t *testing.T) {
	if got := shown("ok\x1b[31m\x00\u202etxt.exe\xff\n"); got != "ok [31m  txt.exe�\n" {
		t.Errorf("%q", got)
	}
	if got := shown(strings.Repeat("語", 100_000)); len(got) > 2*mostAnswer || !utf8.ValidString(got) {
		t.Errorf("%d bytes are kept", len(got))
	}
}

// TestWebhookSays: how a webhook is, in a sentence.
func TestWebhookSays(t *testing.T) {
	at := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	for want, w := range map[string]store.Webhook{"On.": {}, "Switched off.": {OffAt: &at}, "Switched off. It answered 410.": {OffAt: &at, OffWhy: "It answered 410."},
		"On, but it has accepted nothing since 28 November 2026, 09:00 UTC.": {FailingSince: &at}} {
		if got := WebhookSays(w); got != want {
			t.Errorf("%q, not %q", got, want)
		}
	}
}
