package account

import (
	"context"
	"fmt"
	"time"

	"varnet/internal/letter"
	"varnet/internal/store"
)

// base is where people reach the console.
func (a *Accounts) base(ctx context.Context) string {
	s, _ := a.Office.Settings(ctx) // without them no letter goes out at all
	return s.BaseURL
}

// asker says who asked for a letter.
func asker(from From) string {
	return fmt.Sprintf("It was asked for with %s from %s, %s.", DeviceOf(from.Agent), from.Addr, time.Now().UTC().Format("2 January 2006 15:04 UTC"))
}

const notYou = "If that was not you, do nothing: without the code nothing happens. Nobody from Varnet ever asks you for it."

// codeLetter is the letter with a code.
func (a *Accounts) codeLetter(why purpose, code string, from From) letter.Letter {
	l := letter.Letter{Code: spaced(code)}
	switch why {
	case toSignUp:
		l.Subject, l.Paragraphs = spaced(code)+" is your code for signing up to Varnet", []string{"Welcome. Type this code where you signed up; it is good for 10 minutes."}
	case toReset:
		l.Subject, l.Paragraphs = spaced(code)+" is your code for a new password", []string{"With this code you choose a new password for Varnet; it is good for 10 minutes."}
	case toMove:
		l.Subject, l.Paragraphs = spaced(code)+" confirms your new address", []string{"With this code Varnet takes this address for your account; it is good for 10 minutes."}
	case toConfirm:
		l.Subject, l.Paragraphs = spaced(code)+" confirms that it is you", []string{"With this code you confirm a change of your account; it is good for 10 minutes."}
	default:
		l.Subject, l.Paragraphs = spaced(code)+" is your code for signing in to Varnet", []string{"With this code you sign in to Varnet; it is good for 10 minutes."}
	}
	l.Why = asker(from) + " " + notYou
	return l
}

// knownLetter tells somebody who signs up that they have an account.
func (a *Accounts) knownLetter(ctx context.Context, from From) letter.Letter {
	return letter.Letter{Subject: "You have an account with Varnet already", Paragraphs: []string{
		"Somebody, you we hope, wanted to sign up to Varnet with this address. You have an account, so there is nothing to sign up for: sign in, with a code by letter if the password is forgotten."},
		Link: &letter.Link{Text: "Sign in", URL: a.base(ctx) + "/sign-in"}, Why: asker(from) + " If that was not you, do nothing."}
}

// deviceLetter tells of a device that was not seen before.
func (a *Accounts) deviceLetter(ctx context.Context, p store.Person, from From) letter.Letter {
	return letter.Letter{Subject: "A new device is signed in to your account", Paragraphs: []string{
		fmt.Sprintf("%s, somebody signed in to your account with %s from %s, for the first time.", p.Name, DeviceOf(from.Agent), from.Addr),
		"If that was you, all is well. If not, sign out everywhere and choose a new password."},
		Link: &letter.Link{Text: "See your sessions", URL: a.base(ctx) + "/person"}, Why: "You get this letter whenever a new device signs in to your account."}
}

// passwordLetter tells that a password was changed.
func (a *Accounts) passwordLetter(ctx context.Context, from From) letter.Letter {
	return changeLetter(a.base(ctx), "Your password was changed", "The password of your Varnet account was changed.", from)
}

// changeLetter tells of a change to how somebody signs in.
func changeLetter(base, subject, what string, from From) letter.Letter {
	return letter.Letter{Subject: subject, Paragraphs: []string{what, "If that was not you, set a new password at once and sign out everywhere."},
		Link: &letter.Link{Text: "See your account", URL: base + "/person"}, Why: asker(from)}
}

// inviteLetter invites somebody to a workspace.
func (a *Accounts) inviteLetter(ctx context.Context, i store.Invitation, by, secret string) letter.Letter {
	link := a.base(ctx) + "/invitation#" + secret
	return letter.Letter{Subject: fmt.Sprintf("%s invites you to “%s”", by, i.Workspace), Paragraphs: []string{
		fmt.Sprintf("%s invites you to work on the lists of “%s” with Varnet, as %s: %s.", by, i.Workspace, i.Role, Role(i.Role).Says()),
		fmt.Sprintf("The invitation expires on %s.", i.ExpiresAt.UTC().Format("2 January 2006"))},
		Link: &letter.Link{Text: "See the invitation", URL: link}, Unsubscribe: link,
		Why: "You get this letter because a member of that workspace typed your address. If you do not know them, do nothing."}
}
