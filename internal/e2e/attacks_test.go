package e2e

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// TestEnumeration: whether there is an account at an address shows neither in what is answered
// nor in how long it takes; it runs alone, since it measures.
func TestEnumeration(t *testing.T) {
	p, _ := withLetters(t)
	p.signUpMode("open")
	// Each address is asked about once a way, so that none of them rests.
	const rounds = 12
	var known, unknown []string
	for n := range rounds {
		known = append(known, fmt.Sprintf("known%d@fernhollow.example", n))
		unknown = append(unknown, fmt.Sprintf("other%d@fernhollow.example", n))
		p.member(known[n], "Known", "reader")
	}
	ways := map[string]func(address string) any{
		"/sign-in/password":  func(a string) any { return contract.AddressAndPassword{Address: a, Password: "not the password"} },
		"/sign-in/code":      func(a string) any { return contract.AccountAddress{Address: a} },
		"/sign-in/forgotten": func(a string) any { return contract.AccountAddress{Address: a} },
		"/sign-up": func(a string) any {
			return contract.Newcomer{Name: "Somebody", Address: a, Password: "a hedge of damson"}
		},
	}
	for path, body := range ways {
		execute(t, p.Service, "DELETE FROM attempt") // so that the next way is not tried too often
		times := map[bool][]time.Duration{}
		answers := map[bool]string{}
		for n := range rounds {
			for is, address := range map[bool]string{true: known[n], false: unknown[n]} {
				v := visit(t, p.Service)
				begin := time.Now()
				code, header, text := v.send("POST", path, body(address), nil)
				times[is] = append(times[is], time.Since(begin))
				text = ticketOut.ReplaceAllString(strings.ReplaceAll(text, address, "…"), "…")
				shape := fmt.Sprint(code, header.Values("Set-Cookie"), text)
				if n > 0 && answers[is] != shape {
					t.Errorf("%s: answers differ from address to address: %s and %s", path, answers[is], shape)
				}
				answers[is] = shape
			}
		}
		if answers[true] != answers[false] {
			t.Errorf("%s: an address with an account is answered %s, one without %s", path, answers[true], answers[false])
		}
		// The quickest of each is the least disturbed by what else the machine does.
		yes, no := slices.Min(times[true]), slices.Min(times[false])
		t.Logf("%-20s %8v with an account, %8v without", path, yes.Round(100*time.Microsecond), no.Round(100*time.Microsecond))
		if far := max(yes, no) - min(yes, no); far > max(yes, no)/2+8*time.Millisecond {
			t.Errorf("%s: %v with an account, and %v without", path, yes, no)
		}
	}
}

// TestBruteForce: passwords, codes and second factors cannot be tried out, one after the other
// or many at once; a step of the second factor counts once.
func TestBruteForce(t *testing.T) {
	t.Parallel()
	p, _ := withLetters(t)
	const bea = "bea.quill@fernhollow.example"
	who := p.member(bea, "Bea Quill", "member")
	t.Run("passwords", func(t *testing.T) {
		waits := 0
		for n := range 12 {
			code, _, _ := visit(t, p.Service).send("POST", "/sign-in/password", contract.AddressAndPassword{Address: bea, Password: fmt.Sprint("guess number ", n)}, nil)
			if code == http.StatusTooManyRequests {
				waits++
			}
		}
		if waits < 4 {
			t.Errorf("of 12 tries %d had to wait", waits)
		}
		code, header, text := visit(t, p.Service).send("POST", "/sign-in/password", contract.AddressAndPassword{Address: bea, Password: "a hedge of damson"}, nil)
		if code != http.StatusTooManyRequests || header.Get("Retry-After") == "" || strings.Contains(text, "password is") {
			t.Errorf("the right password while it rests: %d %s", code, text)
		}
	})
	t.Run("codes", func(t *testing.T) {
		v := visit(t, p.Service)
		var step contract.Step
		v.must("POST", "/sign-in/code", contract.AccountAddress{Address: bea}, &step)
		right := p.code(bea, "signing in")
		var tries sync.WaitGroup
		var mu sync.Mutex
		answers := map[int]int{}
		for n := range 40 {
			tries.Go(func() {
				code, _, _ := visit(t, p.Service).send("POST", "/sign-in/code/confirm", contract.TicketAndCode{Ticket: step.Ticket, Code: fmt.Sprintf("%06d", n)}, nil)
				mu.Lock()
				answers[code]++
				mu.Unlock()
			})
		}
		tries.Wait()
		code, why := v.call("POST", "/sign-in/code/confirm", contract.TicketAndCode{Ticket: step.Ticket, Code: right}, nil)
		if code == http.StatusOK || answers[http.StatusOK] > 0 {
			t.Errorf("after 40 tries at once the code is still taken: %d %s, %v", code, why, answers)
		}
	})
	t.Run("a code counts once, and where it belongs", func(t *testing.T) {
		const cai = "cai.fern@fernhollow.example"
		p.member(cai, "Cai Fern", "reader")
		v := visit(t, p.Service)
		var step, reset contract.Step
		v.must("POST", "/sign-in/code", contract.AccountAddress{Address: cai}, &step)
		code := p.code(cai, "signing in")
		v.must("POST", "/sign-in/forgotten", contract.AccountAddress{Address: cai}, &reset)
		if got, _ := v.call("POST", "/sign-in/code/confirm", contract.TicketAndCode{Ticket: reset.Ticket, Code: code}, nil); got != http.StatusUnauthorized {
			t.Errorf("the code of one letter with the ticket of another: %d", got)
		}
		v.must("POST", "/sign-in/code/confirm", contract.TicketAndCode{Ticket: step.Ticket, Code: code}, nil)
		if got, _ := visit(t, p.Service).call("POST", "/sign-in/code/confirm", contract.TicketAndCode{Ticket: step.Ticket, Code: code}, nil); got != http.StatusUnauthorized {
			t.Errorf("a code twice: %d", got)
		}
	})
	t.Run("second factor", func(t *testing.T) {
		var e contract.Enrolment
		who.must("POST", "/person/second-factor", nil, &e)
		if !strings.HasPrefix(e.QR, "<svg") || strings.Contains(e.QR, e.Secret) {
			t.Error("the QR code is not a picture")
		}
		enrolling := factor(t, e.Secret, 0)
		who.must("PUT", "/person/second-factor", contract.TicketAndCode{Ticket: e.Ticket, Code: enrolling}, nil)
		who.must("PUT", "/person/password", contract.Password{Password: "a hedge of damson, again"}, nil)
		steps := func(code string) (int, string) {
			var s contract.Step
			v := visit(t, p.Service)
			for end := time.Now().Add(30 * time.Second); ; time.Sleep(500 * time.Millisecond) { // passwords may still rest
				if c, _ := v.call("POST", "/sign-in/password", contract.AddressAndPassword{Address: bea, Password: "a hedge of damson, again"}, &s); c == http.StatusOK || time.Now().After(end) {
					break
				}
			}
			return v.call("POST", "/sign-in/second-factor", contract.TicketAndCode{Ticket: s.Ticket, Code: code}, nil)
		}
		if code, _ := steps(enrolling); code != http.StatusUnauthorized {
			t.Errorf("the code of setting it up is taken again: %d", code)
		}
		next := factor(t, e.Secret, 1)
		if code, why := steps(next); code != http.StatusOK {
			t.Errorf("the next code: %d %s", code, why)
		}
		if code, _ := steps(next); code != http.StatusUnauthorized {
			t.Errorf("a used step is taken again: %d", code)
		}
		waits := 0
		for range 9 {
			if code, _ := steps("123456"); code == http.StatusTooManyRequests {
				waits++
			}
		}
		if waits == 0 {
			t.Error("second factors can be tried out")
		}
	})
}

// TestSessions: signing in makes a new session and takes none that was offered; cookies are
// closed to scripts and other sites; pages cannot be framed; nobody is sent to another site.
func TestSessions(t *testing.T) {
	t.Parallel()
	p, _ := withLetters(t)
	v := visit(t, p.Service)
	at, _ := url.Parse(p.URL)
	v.http.Jar.SetCookies(at, []*http.Cookie{{Name: "varnet_session", Value: "fixed-by-somebody", Path: "/"}})
	code, header, _ := v.send("POST", "/sign-in/password", contract.AddressAndPassword{Address: testkit.Person, Password: testkit.Password}, nil)
	if code != http.StatusOK || v.session() == "fixed-by-somebody" {
		t.Errorf("a session that was offered is taken: %d", code)
	}
	for _, c := range header.Values("Set-Cookie") {
		if !strings.Contains(c, "HttpOnly") || !strings.Contains(c, "SameSite=Strict") || strings.Contains(c, "Secure") {
			t.Errorf("a cookie without TLS: %s", c)
		}
	}
	_, header, _ = visit(t, p.Service).send("POST", "/sign-in/password", contract.AddressAndPassword{Address: testkit.Person, Password: testkit.Password}, http.Header{"Origin": {"https://" + at.Host}, "Sec-Fetch-Site": {"same-origin"}})
	if c := header.Get("Set-Cookie"); !strings.HasPrefix(c, "__Host-varnet_session=") || !strings.Contains(c, "Secure") {
		t.Errorf("a cookie over TLS: %s", c)
	}
	t.Run("other sites", func(t *testing.T) {
		for path, body := range map[string]any{"/sign-in/password": contract.AddressAndPassword{Address: testkit.Person, Password: testkit.Password}, "/person/password": contract.Password{Password: "a password of theirs"}, "/team/leave": nil, "/sign-in/demo": nil} {
			method := "POST"
			if path == "/person/password" {
				method = "PUT"
			}
			for _, from := range []http.Header{{"Sec-Fetch-Site": {"cross-site"}}, {"Origin": {"https://elsewhere.example"}}} {
				if code, _, _ := v.send(method, path, body, from); code != http.StatusForbidden {
					t.Errorf("%s from another site: %d", path, code)
				}
			}
		}
	})
	t.Run("frames", func(t *testing.T) {
		for _, page := range []string{"/", "/sign-in", "/device", "/invitation", "/api/v1/docs"} {
			resp, err := http.Get(p.URL + page)
			if err != nil {
				t.Fatal(err)
			}
			_ = resp.Body.Close()
			if policy := resp.Header.Get("Content-Security-Policy"); !strings.Contains(policy, "frame-ancestors 'none'") || !strings.Contains(policy, "form-action 'self'") {
				t.Errorf("%s can be framed: %s", page, policy)
			}
		}
	})
	t.Run("a key is not a session, and the other way round", func(t *testing.T) {
		stranger := visit(t, p.Service)
		stranger.http.Jar.SetCookies(at, []*http.Cookie{{Name: "varnet_session", Value: p.Key, Path: "/"}})
		if code, _ := stranger.call("GET", "/session", nil, nil); code != http.StatusUnauthorized {
			t.Errorf("a key as a cookie: %d", code)
		}
	})
	t.Run("a stale session changes nothing of the account", func(t *testing.T) {
		execute(t, p.Service, "UPDATE person_session SET confirmed_at = now() - interval '16 minutes'")
		for path, body := range map[string]any{"/person/second-factor": nil, "/person/passkeys/options": nil, "/person/address": contract.AccountAddress{Address: "new@fernhollow.example"}, "/team/delete": contract.WorkspaceName{Name: "default"}} {
			if code, _, text := v.send("POST", path, body, nil); code != http.StatusForbidden || !strings.Contains(text, "problems#confirm") {
				t.Errorf("%s: %d %s", path, code, text)
			}
		}
		if code, _ := v.call("POST", "/session/confirm", contract.Confirmation{Password: "not the password"}, nil); code != http.StatusUnauthorized {
			t.Errorf("confirmed with a wrong password: %d", code)
		}
		v.must("POST", "/session/confirm", contract.Confirmation{Password: testkit.Password}, nil)
		v.must("POST", "/person/second-factor", nil, nil)
		var step contract.Step
		v.must("POST", "/session/confirm/letter", nil, &step)
		v.must("POST", "/session/confirm", contract.Confirmation{Ticket: step.Ticket, Code: p.code(testkit.Person, "confirms that it is you")}, nil)
	})
	t.Run("a session that rests for a week is over", func(t *testing.T) {
		execute(t, p.Service, "UPDATE person_session SET seen_at = now() - interval '8 days'")
		if code, _ := v.call("GET", "/session", nil, nil); code != http.StatusUnauthorized {
			t.Errorf("%d", code)
		}
	})
}

// TestProvider: of a sign-in provider only what it signs for us, now, for this browser, counts.
func TestProvider(t *testing.T) {
	t.Parallel()
	p, i := withLetters(t)
	provider, err := i.StartProvider("127.0.0.1:0", "varnet", "practice")
	if err != nil {
		t.Fatal(err)
	}
	set := func(mode string) {
		p.signUpMode(mode, func(s *contract.InstallationSettings) {
			s.Provider = contract.SignInProvider{Name: "Library sign-in", Issuer: provider.Issuer, Client: "varnet", Secret: &provider.Secret}
		})
	}
	set("open")
	// back goes to the provider as one of its people and returns where the service sends on to.
	back := func(v *visitor, as, to string, change func(url.Values)) string {
		t.Helper()
		_, header, _ := v.send("GET", "/sign-in/provider?to="+url.QueryEscape(to), nil, nil)
		asked, err := v.http.Get(header.Get("Location") + "&as=" + as)
		if err != nil {
			t.Fatal(err)
		}
		_ = asked.Body.Close()
		answer, _ := url.Parse(asked.Header.Get("Location"))
		q := answer.Query()
		if change != nil {
			change(q)
		}
		resp, err := v.http.Get(p.URL + answer.Path + "?" + q.Encode())
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		return resp.Header.Get("Location")
	}
	signedIn := func(v *visitor) bool {
		code, _ := v.call("GET", "/session", nil, nil)
		return code == http.StatusOK
	}
	for name, lie := range map[string]practice.Lie{"another state": {State: "theirs"}, "another issuer (mix-up)": {Issuer: "http://elsewhere.example"}, "another nonce": {Nonce: "theirs"},
		"a token for another client": {Audience: "somebody-else"}, "a forged token": {Forged: true}} {
		provider.Deceive(lie)
		v := visit(t, p.Service)
		if to := back(v, "1", "/lists", nil); !strings.HasPrefix(to, "/sign-in#trouble=") || signedIn(v) {
			t.Errorf("%s: sent on to %s", name, to)
		}
	}
	provider.Deceive(practice.Lie{})
	t.Run("whose browser it is", func(t *testing.T) {
		thief, victim := visit(t, p.Service), visit(t, p.Service)
		var code, state string
		back(thief, "2", "/lists", func(q url.Values) { code, state = q.Get("code"), q.Get("state"); q.Set("code", "none") })
		if to := back(victim, "1", "/lists", func(q url.Values) { q.Set("code", code); q.Set("state", state) }); signedIn(victim) {
			t.Errorf("somebody is signed in as another: %s", to)
		}
		resp, err := visit(t, p.Service).http.Get(p.URL + "/api/v1/sign-in/provider/back?code=" + code + "&state=" + state)
		if err != nil || !strings.Contains(resp.Header.Get("Location"), "trouble") {
			t.Errorf("an answer without a question: %v, %v", resp, err)
		}
	})
	t.Run("open redirects", func(t *testing.T) {
		for _, to := range []string{"https://elsewhere.example", "//elsewhere.example", "/\\elsewhere.example", "javascript:alert(1)", "/\r\nSet-Cookie: a=b"} {
			v := visit(t, p.Service)
			if went := back(v, "1", to, nil); went != "/lists" || !signedIn(v) {
				t.Errorf("%q: sent on to %s", to, went)
			}
		}
		if went := back(visit(t, p.Service), "1", "/runs/1", nil); went != "/runs/1" {
			t.Errorf("the way on is lost: %s", went)
		}
	})
	t.Run("who may come", func(t *testing.T) {
		v := visit(t, p.Service)
		if to := back(v, "3", "/lists", nil); !strings.Contains(to, "vouch") || signedIn(v) {
			t.Errorf("an address that the provider does not vouch for: %s", to)
		}
		set("invitation")
		if to := back(v, "2", "/lists", nil); !strings.Contains(to, "invitation") || signedIn(v) {
			t.Errorf("somebody who was not invited: %s", to)
		}
		// The service's owner has an account at the address that the provider vouches for.
		if back(v, "1", "/lists", nil); !signedIn(v) {
			t.Error("who has an account is not let in")
		}
		var me contract.Session
		if v.must("GET", "/session", nil, &me); me.Person.Address != testkit.Person {
			t.Errorf("signed in as %+v", me.Person)
		}
	})
}

// TestInvitations: an invitation is for one address, once, for its time; the last owner stays.
func TestInvitations(t *testing.T) {
	t.Parallel()
	p, _ := withLetters(t)
	invite := func(address, role string) string {
		t.Helper()
		var i contract.Invitation
		p.owner.must("POST", "/team/invitations", contract.NewInvitation{Address: address, Role: role}, &i)
		_, secret, _ := strings.Cut(i.Link, "#")
		return secret
	}
	join := func(secret, name string) (int, *visitor) {
		v := visit(t, p.Service)
		code, _ := v.call("POST", "/invitations/join", contract.Joining{InvitationLink: contract.InvitationLink{Invitation: secret}, Name: name, Password: "a hedge of damson"}, nil)
		return code, v
	}
	first := invite("bea.quill@fernhollow.example", "reader")
	second := invite("bea.quill@fernhollow.example", "member") // in the place of the first
	if code, _ := join(first, "Somebody"); code != http.StatusUnauthorized {
		t.Errorf("an invitation that was replaced: %d", code)
	}
	code, bea := join(second, "Bea Quill")
	if code != http.StatusOK {
		t.Fatalf("%d", code)
	}
	if code, _ := join(second, "Somebody"); code != http.StatusUnauthorized {
		t.Errorf("an invitation twice: %d", code)
	}
	other := invite("cai.fern@fernhollow.example", "owner")
	if code, why := bea.call("POST", "/invitations/accept", contract.InvitationLink{Invitation: other}, nil); code != http.StatusForbidden {
		t.Errorf("somebody else's invitation: %d %s", code, why)
	}
	execute(t, p.Service, "UPDATE invitation SET expires_at = now() - interval '1 second'")
	if code, _ := join(other, "Cai Fern"); code != http.StatusUnauthorized {
		t.Errorf("an invitation that is too old: %d", code)
	}
	if l := p.letter("bea.quill@fernhollow.example", "invites you"); !strings.Contains(l.Text, "/invitation#") {
		t.Errorf("the letter has no link: %s", l.Text)
	}
	var me contract.Session
	p.owner.must("GET", "/session", nil, &me)
	for path, body := range map[string]any{"/team/leave": nil} {
		if code, why := p.owner.call("POST", path, body, nil); code != http.StatusConflict {
			t.Errorf("the last owner leaves: %d %s", code, why)
		}
	}
	if code, _ := p.owner.call("PUT", fmt.Sprintf("/team/members/%d", me.Person.ID), contract.RoleChange{Role: "reader"}, nil); code != http.StatusConflict {
		t.Errorf("the last owner becomes a reader: %d", code)
	}
	var hers contract.Session
	bea.must("GET", "/session", nil, &hers)
	p.owner.must("POST", "/team/owner", contract.NewOwner{PersonID: hers.Person.ID}, nil)
	if code, _ := p.owner.call("POST", "/team/invitations", contract.NewInvitation{Address: "dora@fernhollow.example", Role: "owner"}, nil); code != http.StatusForbidden {
		t.Errorf("who has handed the workspace over still invites: %d", code)
	}
	bea.must("DELETE", fmt.Sprintf("/team/members/%d", me.Person.ID), nil, nil)
	if code, _ := p.owner.call("GET", "/lists", nil, nil); code != http.StatusForbidden {
		t.Errorf("who was removed still looks: %d", code)
	}
	t.Run("a second factor is demanded", func(t *testing.T) {
		change := contract.TeamChange{Name: "Fernhollow Seed Library", SecondFactor: true}
		if code, _ := bea.call("PUT", "/team", change, nil); code != http.StatusConflict {
			t.Errorf("demanded by somebody who has none: %d", code)
		}
		var e contract.Enrolment
		bea.must("POST", "/person/second-factor", nil, &e)
		bea.must("PUT", "/person/second-factor", contract.TicketAndCode{Ticket: e.Ticket, Code: factor(t, e.Secret, 0)}, nil)
		bea.must("PUT", "/team", change, nil)
		var i contract.Invitation
		bea.must("POST", "/team/invitations", contract.NewInvitation{Address: "elin.sedge@fernhollow.example", Role: "owner"}, &i)
		_, secret, _ := strings.Cut(i.Link, "#")
		code, elin := join(secret, "Elin Sedge")
		if code != http.StatusOK {
			t.Fatal(code)
		}
		if code, why := elin.call("GET", "/lists", nil, nil); code != http.StatusForbidden || !strings.Contains(why, "second factor") {
			t.Errorf("without one: %d %s", code, why)
		}
		elin.must("POST", "/person/second-factor", nil, &e)
		elin.must("PUT", "/person/second-factor", contract.TicketAndCode{Ticket: e.Ticket, Code: factor(t, e.Secret, 0)}, nil)
		elin.must("GET", "/lists", nil, nil)
	})
	t.Run("limits of the installation", func(t *testing.T) {
		p.owner.must("PUT", fmt.Sprintf("/installation/workspaces/%d", hers.WorkspaceID), contract.WorkspaceLimits{MaxRows: 2}, nil)
		if code, _, text := bea.send("POST", "/lists?name=three.csv", nil, nil); code < 400 {
			t.Errorf("%d %s", code, text)
		}
		_, err := importText(t, bea.api(), "e-mail\na@fernhollow.example\nb@fernhollow.example\nc@fernhollow.example\n")
		if status(err) != http.StatusConflict || !strings.Contains(err.Error(), "may have 2 rows") {
			t.Errorf("three rows where two may be: %v", err)
		}
		if _, err := importText(t, bea.api(), "e-mail\na@fernhollow.example\nb@fernhollow.example\n"); err != nil {
			t.Error(err)
		}
		p.signUpMode("closed", func(s *contract.InstallationSettings) { s.MaxKeepDays = 30 })
		if _, err := bea.api().SetRetention(t.Context(), 90); status(err) != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), "30 days") {
			t.Errorf("kept for longer than the installation allows: %v", err)
		}
		if code, _ := visit(t, p.Service).call("POST", "/sign-up", contract.Newcomer{Name: "Somebody", Address: "some@fernhollow.example"}, nil); code != http.StatusForbidden {
			t.Errorf("signed up where nobody may: %d", code)
		}
	})
}

// TestDevices: a device without a browser is let in by who sees which it is, within its time.
func TestDevices(t *testing.T) {
	t.Parallel()
	p, _ := withLetters(t)
	device := visit(t, p.Service)
	ask := func() (g contract.DeviceGrant) {
		code, _, text := device.send("POST", "/devices", nil, http.Header{"User-Agent": {"varnet/0.8 (a machine in the office)"}})
		if code != http.StatusOK {
			t.Fatalf("%d %s", code, text)
		}
		read(t, text, &g)
		return g
	}
	state := func(g contract.DeviceGrant) (s contract.DeviceState) {
		device.call("POST", "/devices/session", contract.DeviceSecret{Secret: g.Secret}, &s)
		return s
	}
	g := ask()
	if s := state(g); s.State != "too-soon" && s.State != "waiting" || s.Token != "" {
		t.Errorf("before it is let in: %+v", s)
	}
	var d contract.WaitingDevice
	p.owner.must("POST", "/devices/look", contract.DeviceCode{Code: strings.ToLower(strings.ReplaceAll(g.Code, "-", " "))}, &d)
	if d.Device != "a machine in the office" || d.Place != "127.0.0.1" && d.Place != "::1" || !strings.Contains(d.Says, "If somebody sent you this code") {
		t.Errorf("%+v", d)
	}
	p.owner.must("POST", "/devices/answer", contract.DeviceAnswer{DeviceCode: contract.DeviceCode{Code: g.Code}, LetIn: true}, nil)
	s := state(g)
	if s.State != "in" || s.Token == "" {
		t.Fatalf("%+v", s)
	}
	if again := state(g); again.Token != "" {
		t.Error("the token is given twice")
	}
	v := visit(t, p.Service)
	code, _, text := v.send("GET", "/person", nil, http.Header{"Authorization": {"Bearer " + s.Token}})
	if code != http.StatusOK || !strings.Contains(text, "by the command line") && !strings.Contains(text, `"commandLine":true`) {
		t.Errorf("%d %s", code, text)
	}
	away := ask()
	p.owner.must("POST", "/devices/answer", contract.DeviceAnswer{DeviceCode: contract.DeviceCode{Code: away.Code}, LetIn: false}, nil)
	if s := state(away); s.Token != "" {
		t.Errorf("turned away, and in: %+v", s)
	}
	waits := 0
	for n := range 12 {
		if code, _ := p.owner.call("POST", "/devices/look", contract.DeviceCode{Code: fmt.Sprintf("BBBB-BB%02d", n)}, nil); code == http.StatusTooManyRequests {
			waits++
		}
	}
	if waits == 0 {
		t.Error("codes of devices can be tried out")
	}
}
