package e2e

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// authenticator gives the browser a security device that proves its owner by itself.
func authenticator() chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		if err := webauthn.Enable().Do(ctx); err != nil {
			return err
		}
		_, err := webauthn.AddVirtualAuthenticator(&webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal,
			HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}).Do(ctx)
		return err
	})
}

// pick picks an option of a choice.
func pick(choice, option string) chromedp.Action { return pickIn("body", choice, option) }

// pickIn is pick within a part of the page.
func pickIn(part, choice, option string) chromedp.Action {
	input := fmt.Sprintf(`document.querySelector('%s input[aria-label=%q]')`, part, choice)
	options := fmt.Sprintf(`[...document.querySelectorAll(".ant-select-item-option")].find(o => o.innerText.trim() === %q && o.checkVisibility())`, option)
	return chromedp.Tasks{
		browser.Wait(input),
		chromedp.Evaluate(input+`.closest(".ant-select").dispatchEvent(new MouseEvent("mousedown", {bubbles: true}))`, nil),
		browser.ClickOn(options),
	}
}

// TestAccounts goes the way of two people in two browsers: sign up, second factor, passkey,
// invite, join as a reader, become a member; sign out everywhere, a forgotten password, and
// the sign-in provider.
func TestAccounts(t *testing.T) {
	t.Parallel()
	p, i := withLetters(t)
	provider, err := i.StartProvider("127.0.0.1:0", "varnet", "practice")
	if err != nil {
		t.Fatal(err)
	}
	p.signUpMode("open", func(s *contract.InstallationSettings) {
		secret := provider.Secret
		s.Provider = contract.SignInProvider{Name: "Library sign-in", Issuer: provider.Issuer, Client: provider.Client, Secret: &secret}
	})
	const bea, cai = "bea.quill@fernhollow.example", "cai.fern@fernhollow.example"
	downloads := t.TempDir()
	first, second := drive(t, browser.Options{Width: 1280, Height: 800}), drive(t, browser.Options{Width: 1280, Height: 800, Downloads: downloads})

	first("sign up", authenticator(), chromedp.Navigate(p.URL+"/sign-in"), browser.Press("Sign up"), browser.Fill("Name", "Bea Quill"), browser.Fill("Address", bea), browser.Fill("Password", "password2024"),
		browser.Press("Sign up"), browser.Text("among the passwords that are used most"), browser.Fill("Password", "a hedge of damson"), browser.Press("Sign up"), browser.Text("A letter with a code is on its way"))
	first("a wrong code", browser.Fill("Code from the letter", "000000\r"), browser.Text("4 more tries"))
	first("the code", browser.Fill("Code from the letter", p.code(bea, "signing up")+"\r"), browser.Text("There is no list yet"), browser.Text("Bea Quill"))

	var secret string
	first("second factor", browser.Press("Bea Quill"), browser.Press("Set one up"), browser.Seen(".qr"), chromedp.Evaluate(`document.querySelector("code.secret").innerText`, &secret))
	used := factor(t, secret, 0)
	first("its first code", browser.Fill("Code of the app", used+"\r"), browser.Text("shown only now"), browser.Text("10 recovery codes are left"))
	first("passkey", browser.Fill("What to call it", "Bea's laptop"), browser.Press("Add a passkey"), browser.Text("added"))
	p.letter(bea, "A second factor was added")
	p.letter(bea, "A passkey was added")
	first("with both factors", browser.Press("Sign out"), browser.Fill("Address", bea), browser.Fill("Password", "a hedge of damson\r"), browser.Fill("Second factor", used+"\r"), browser.Text("used before"),
		browser.Fill("Second factor", factor(t, secret, 1)+"\r"), browser.Text("There is no list yet"))
	first("with the passkey", browser.Press("Sign out"), browser.Press("Use a passkey"), browser.Text("There is no list yet"))

	first("invite", chromedp.Navigate(p.URL+"/team"), browser.Fill("Address of a colleague", cai), pick("Role of the invitation", "reader"), browser.Press("Invite"), browser.Text("is invited"))
	second("the invitation", chromedp.Navigate(link(t, p.letter(cai, "Bea Quill invites you"), "/invitation#")), browser.Text("As reader"), browser.Fill("Your name", "Cai Fern"), browser.Fill("Password", "a peck of pippins"),
		browser.Press("Join"), browser.Text("There is no list yet"))

	again := visit(t, p.Service) // Bea elsewhere, with a recovery code
	var step contract.Step
	again.must("POST", "/sign-in/password", contract.AddressAndPassword{Address: bea, Password: "a hedge of damson"}, &step)
	var codes contract.RecoveryCodes
	{ // which only she can make, at a place where she is signed in
		var text string
		first("new recovery codes", chromedp.Navigate(p.URL+"/person"), browser.Press("New recovery codes"), browser.Seen(".codes"), chromedp.Evaluate(`document.querySelector(".codes li").innerText`, &text))
		codes.Codes = []string{text}
	}
	again.must("POST", "/sign-in/second-factor", contract.TicketAndCode{Ticket: step.Ticket, Code: codes.Codes[0]}, nil)
	_, run := startNamed(t, again.api(), "members.csv", []byte("e-mail\nada@fernhollow.example\nben@fernhollow.example\n"), "syntax")
	if _, err := again.api().Wait(t.Context(), run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	p.letter(bea, "A new device is signed in")

	exported := fmt.Sprintf("%s/runs/%d/export?decision=all", p.URL, run.ID)
	second("a reader looks, and does not export", chromedp.Navigate(exported), browser.Text("You can look at this, but not export"))
	first("a member", chromedp.Navigate(p.URL+"/team"), pick("Role of Cai Fern", "member"), browser.Wait(`[...document.querySelectorAll("tr")].some(r => r.innerText.includes("Cai Fern") && r.innerText.includes("member"))`))
	second("a member exports", chromedp.Navigate(exported), browser.Press("Write"))
	waitForFile(t, filepath.Join(downloads, "members-all.csv"))

	first("sign out everywhere", chromedp.Navigate(p.URL+"/person"), browser.Press("Sign out everywhere"), browser.Text("Sign in"))
	if code, _ := again.call("GET", "/session", nil, nil); code != http.StatusUnauthorized {
		t.Errorf("another browser is still signed in: %d", code)
	}
	second("a forgotten password", browser.Press("Sign out"), browser.Fill("Address", cai), browser.Press("I forgot my password"), browser.Text("a code is on its way"))
	second("a new one", browser.Fill("Code from the letter", p.code(cai, "new password")+"\r"), browser.Fill("New password", "a bushel of medlar\r"), browser.Text("members"))
	p.letter(cai, "Your password was changed")
	second("by code alone", browser.Press("Sign out"), browser.Fill("Address", cai), browser.Press("Send me a code"), browser.Text("a code is on its way"))
	second("its code", browser.Fill("Code from the letter", p.code(cai, "signing in")+"\r"), browser.Text("members"))
	second("the sign-in provider", browser.Press("Sign out"), browser.Press("Library sign-in"))
	second("somebody else there", browser.Press("Dora Vetch"), browser.Text("There is no list yet"), browser.Text("Dora Vetch"))
	second("another address", browser.Press("Dora Vetch"), browser.Fill("New address", "dora@upperloam.example"), browser.Press("Send a code there"), browser.Text("is on its way"))
	second("is proved", browser.Fill("Code from the letter", p.code("dora@upperloam.example", "new address")+"\r"), browser.Text("You sign in with dora@upperloam.example"))
	p.letter("dora.vetch@fernhollow.example", "The address of your account was changed")
	p.letter("dora@upperloam.example", "The address of your account was changed")
	if strings.Contains(p.Log(), "damson") || strings.Contains(p.Log(), "dora") {
		t.Error("a password or an address is in the log")
	}
}

// TestFirstOwner: the link that an installation begins with signs its owner up, once.
func TestFirstOwner(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	text, err := testkit.Command(s.Env, "person", "link", "-base-url", s.URL).Output()
	if err != nil {
		t.Fatal(err)
	}
	begin := strings.TrimSpace(string(text))
	do := drive(t, browser.Options{Width: 390, Height: 844})
	do("begin", chromedp.Navigate(begin), browser.Fill("Name", "Enid Rowan"), browser.Fill("Address", "enid.rowan@fernhollow.example"), browser.Fill("Password", "enid.rowan!"), browser.Press("Begin"),
		browser.Text("too much like your name"), browser.Fill("Password", "sorrel and tansy"), browser.Press("Begin"), browser.Text("Setup"), browser.Text("Installation"))
	do("its pages", chromedp.Navigate(s.URL+"/installation"), browser.Text("1 workspace"), chromedp.Navigate(s.URL+"/audit?of=installation"), browser.Press("Verify the whole trail"), browser.Text("as they were written"))
	do("another workspace", chromedp.Evaluate(`fetch("/api/v1/workspaces", {method: "POST", headers: {"Content-Type": "application/json"}, body: '{"name": "Upper Loam branch"}'}).then(() => location.assign("/lists"))`, nil),
		browser.Wait(`document.querySelector("select")?.selectedOptions[0].innerText === "Upper Loam branch"`), browser.Text("There is no list yet"))
	do("and back", chromedp.Evaluate(`(() => {
		const choice = document.querySelector("select");
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(choice, "1");
		choice.dispatchEvent(new Event("change", {bubbles: true}));
	})()`, nil), browser.Wait(`document.querySelector("select")?.selectedOptions[0].innerText === "default"`))
	do("no second time", browser.Press("Sign out"), browser.Text("Sign in as"), chromedp.Navigate("about:blank"), chromedp.Navigate(begin), browser.Fill("Name", "Somebody"), browser.Fill("Address", "some.body@fernhollow.example"), browser.Fill("Password", "sorrel and tansy"), browser.Press("Begin"), browser.Text("This link was used"))
}
