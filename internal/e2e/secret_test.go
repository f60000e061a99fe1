package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"varnet/core/event"
	"varnet/core/outbound"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestSecretRotation changes the secret of a running service step by step: the password of a
// route, the secret of a webhook and a second factor are good after each, and at the end the old secret opens nothing.
func TestSecretRotation(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "secret")
	p, i := withLetters(t, "VARNET_SECRET=", "VARNET_SECRET_FILE="+file)
	const route = "socks5://ada:seedcake@"
	if _, err := p.owner.api().AddParts(t.Context(), outbound.Route, route+proxy(t, i, "socks5", "127.0.0.31", "ada", "seedcake")); err != nil {
		t.Fatal(err)
	}
	const bea = "bea.finch@fernhollow.example"
	who := p.member(bea, "Bea Finch", "member")
	var e contract.Enrolment
	who.must("POST", "/person/second-factor", nil, &e)
	who.must("PUT", "/person/second-factor", contract.TicketAndCode{Ticket: e.Ticket, Code: factor(t, e.Secret, 0)}, nil)

	told, hook := receiver(t, i, p.owner.api(), event.RunFinished)
	platform, _ := pottingShed(t, i.World, 5, 0)
	connection := connected(t, p.owner.api(), platform)

	good := func(when string) {
		t.Helper()
		calls := len(told.Calls())
		if _, err := p.owner.api().TestWebhook(t.Context(), hook.ID); err != nil {
			t.Fatal(err)
		}
		eventually(t, 10*time.Second, func() (bool, string) {
			now := told.Calls()
			return len(now) > calls && now[calls].Verified == nil, when + " the webhook is not called with its signature"
		})
		tested, err := p.owner.api().TestOutbound(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, part := range tested.Parts {
			if strings.HasPrefix(part.Name, "socks5://") && part.Grade != outbound.Good {
				t.Errorf("%s the route is %s: %+v", when, part.Grade, part.Checks)
			}
		}
		if c, err := p.owner.api().TestConnection(t.Context(), connection.ID); err != nil || !c.Works {
			t.Errorf("%s the connection does not work: %v, %s", when, err, c.Says)
		}
		var step contract.Step
		v := visit(t, p.Service)
		v.must("POST", "/sign-in/password", contract.AddressAndPassword{Address: bea, Password: "a hedge of damson"}, &step)
		execute(t, p.Service, "UPDATE person SET totp_step = 0") // each code counts once
		if code, why := v.call("POST", "/sign-in/second-factor", contract.TicketAndCode{Ticket: step.Ticket, Code: factor(t, e.Secret, 0)}, nil); code != http.StatusOK {
			t.Errorf("%s the second factor is refused: %d %s", when, code, why)
		}
	}
	say := func(want string, args ...string) {
		t.Helper()
		out, err := testkit.Command(p.Env, args...).CombinedOutput()
		if !strings.Contains(string(out), want) {
			t.Errorf("%q: %v, %s", args, err, out)
		}
	}
	good("at first")
	old, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	say("no secret before", "secret", "forget")
	say("stands first", "secret", "rotate")
	good("after the rotation")
	say("4 passwords, secrets and second factors are sealed", "secret", "reseal")
	good("after sealing anew")
	say("now with -yes", "secret", "forget")
	say("are gone from", "secret", "forget", "-yes")
	good("without the old secret")
	if err := p.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	p.Start(t)
	good("after a restart")

	if err := os.WriteFile(file, old, 0o600); err != nil {
		t.Fatal(err)
	}
	say("it was sealed with another secret", "secret", "reseal")
	p.Env = append(p.Env, "VARNET_SECRET="+strings.Repeat("s", 32))
	say("VARNET_SECRET_BEFORE", "secret", "rotate")
}
