package account_test

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/pquerna/otp/totp"

	"varnet/core/event"
	"varnet/internal/account"
	"varnet/internal/letter"
	"varnet/internal/store"
	"varnet/internal/store/storetest"
	"varnet/internal/testkit"
)

// Where people of the tests are, and what they sign in with.
const (
	adaAt, benAt = "ada.moss@fernhollow.example", "ben.ash@fernhollow.example"
	password     = "quince and medlar"
)

var (
	atHome = account.From{Addr: netip.MustParseAddr("192.0.2.7"), Agent: "Mozilla/5.0 (X11; Linux x86_64) Gecko/20100101 Firefox/140.0", Device: "the laptop"}
	atWork = account.From{Addr: netip.MustParseAddr("198.51.100.9"), Agent: "Mozilla/5.0 (Windows NT 10.0) Chrome/140.0", Device: "the desk"}
)

// sent is a letter that was posted.
type sent struct {
	to string
	letter.Letter
}

// house is an installation that anybody may sign up to, with the letters and events of its accounts.
type house struct {
	*testing.T
	account.Accounts
	letters []sent
	events  []event.Event
	lost    string // letters to it cannot be posted
}

func newHouse(t *testing.T) *house {
	t.Helper()
	t.Parallel()
	s, box := storetest.Open(t), testkit.Secrets(t)
	h := &house{T: t, Accounts: account.Accounts{Store: s, Secrets: box, Office: &letter.Office{Store: s, Secrets: box}}}
	h.Post = func(_ context.Context, _ pgx.Tx, to string, l letter.Letter) error {
		if to != "" && to == h.lost {
			return errors.New("the letter cannot be kept")
		}
		h.letters = append(h.letters, sent{to, l})
		return nil
	}
	h.Happened = func(_ context.Context, _ *store.Store, _ pgx.Tx, e event.Event) error {
		h.events = append(h.events, e)
		return nil
	}
	i, err := s.Installation(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	i.SignUp = string(account.Open)
	if err := errors.Join(s.SetInstallation(t.Context(), i), h.Office.Set(t.Context(), store.LetterServer{Host: "mail.fernhollow.example", Port: 465, Security: "tls", Sender: "varnet@fernhollow.example", BaseURL: "https://varnet.fernhollow.example"}, nil)); err != nil {
		t.Fatal(err)
	}
	return h
}

// last is the newest letter, which goes to an address.
func (h *house) last(to string) letter.Letter {
	h.Helper()
	if len(h.letters) == 0 || h.letters[len(h.letters)-1].to != to {
		h.Fatalf("the last of %d letters does not go to %q", len(h.letters), to)
	}
	return h.letters[len(h.letters)-1].Letter
}

// refused holds that something is refused as a kind, in words.
func (h *house) refused(err error, kind account.Kind, words string) {
	h.Helper()
	var no *account.Refused
	if !errors.As(err, &no) || no.Kind != kind || !strings.Contains(no.Why, words) {
		h.Errorf("%v, not refused as %d with %q", err, kind, words)
	}
}

// must is what a call returned that has to go well.
func must[T any](h *house) func(T, error) T {
	return func(v T, err error) T {
		h.Helper()
		if err != nil {
			h.Fatal(err)
		}
		return v
	}
}

// signedUp signs somebody up, and returns them as who is signed in.
func (h *house) signedUp(name, at string) account.Caller {
	h.Helper()
	step := must[account.Step](h)(h.SignUp(h.Context(), account.Newcomer{Name: name, Address: at, Password: password}, atHome))
	step = must[account.Step](h)(h.Code(h.Context(), step.Ticket, h.last(at).Code, atHome))
	return h.caller(step)
}

func (h *house) caller(s account.Step) account.Caller {
	h.Helper()
	if s.Next != account.Done {
		h.Fatalf("not signed in but at %q: %s", s.Next, s.Says)
	}
	return must[account.Caller](h)(h.OfSession(h.Context(), s.Session, atHome.Addr))
}

// TestCodesByLetter: a code is good for what it was sent for, once, and for so many tries; and what is answered does not tell
// who has an account.
func TestCodesByLetter(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	ada := h.signedUp("Ada Moss", adaAt)
	if ada.Role != account.Owner || ada.Workspace != "Ada Moss" || !ada.May(account.Team) || ada.May(account.Installation) {
		t.Errorf("%+v", ada)
	}
	known := must[account.Step](h)(h.SignUp(ctx, account.Newcomer{Name: "Ada Again", Address: "Ada.Moss@fernhollow.EXAMPLE", Password: password}, atWork))
	if l := h.last("Ada.Moss@fernhollow.example"); l.Code != "" || !strings.Contains(l.Subject, "have an account") {
		t.Errorf("who has an account is told: %+v", l)
	}
	unknown := must[account.Step](h)(h.ByCode(ctx, "nobody@fernhollow.example", atWork))
	code := h.last("").Code
	_, err := h.Code(ctx, unknown.Ticket, code, atWork)
	h.refused(err, account.Unproved, "not the code of the latest letter")
	if _, err := h.Code(ctx, known.Ticket, "123456", atWork); err == nil {
		t.Error("a code that nobody was told is taken")
	}

	in := must[account.Step](h)(h.ByCode(ctx, adaAt, atHome))
	code = h.last(adaAt).Code
	if step := must[account.Step](h)(h.Code(ctx, in.Ticket, " "+code+" ", atHome)); h.caller(step).PersonID != ada.PersonID {
		t.Error("somebody else is signed in")
	}
	_, err = h.Code(ctx, in.Ticket, code, atHome)
	h.refused(err, account.Unproved, "was done before")
	h.refused(h.ConfirmByCode(ctx, ada, must[account.Step](h)(h.ByCode(ctx, adaAt, atHome)).Ticket, h.last(adaAt).Code, atHome), account.Unproved, "Begin again")

	in = must[account.Step](h)(h.ByCode(ctx, adaAt, atHome))
	for n, says := range []string{"4 more tries", "3 more tries", "2 more tries", "one more try"} {
		_, err := h.Code(ctx, in.Ticket, "x", atHome)
		h.refused(err, account.Unproved, says)
		if n == 3 {
			_, _ = h.Code(ctx, in.Ticket, "x", atWork)
		}
	}
	if _, err := h.Code(ctx, in.Ticket, h.last(adaAt).Code, atHome); err == nil {
		t.Error("the right code is taken after five wrong ones")
	}
}

// TestTries: wrong passwords rest an account, also for who then knows it, and no other one; a right one forgives those
// before it.
func TestTries(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	h.signedUp("Ada Moss", adaAt)
	h.signedUp("Ben Ash", benAt)
	wrong := func(at string, times int) {
		t.Helper()
		for range times {
			_, err := h.WithPassword(ctx, at, "not my password", atHome)
			h.refused(err, account.Unproved, "address or the password is wrong")
		}
	}
	wrong(adaAt, 4)
	h.caller(must[account.Step](h)(h.WithPassword(ctx, adaAt, password, atHome)))
	wrong(adaAt, 5)
	var often *account.TooMany
	if _, err := h.WithPassword(ctx, "ADA.moss@fernhollow.example", password, atWork); !errors.As(err, &often) || time.Until(often.Until) > 2*time.Second {
		t.Errorf("after five wrong ones: %v", err)
	}
	h.caller(must[account.Step](h)(h.WithPassword(ctx, benAt, password, atHome)))
	wrong("nobody@fernhollow.example", 5)
	if _, err := h.WithPassword(ctx, "nobody@fernhollow.example", password, atHome); !errors.As(err, &often) {
		t.Errorf("an account that there is not: %v", err)
	}
	_, err := h.WithPassword(ctx, "no address", password, atHome)
	h.refused(err, account.Unproved, "address or the password is wrong")
}

// TestResetPassword: a forgotten password is set anew once, by who gets the letter; all sessions end, and the person is told.
func TestResetPassword(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	h.signedUp("Ada Moss", adaAt)
	before := must[account.Step](h)(h.WithPassword(ctx, adaAt, password, atHome))
	step := must[account.Step](h)(h.Forgotten(ctx, adaAt, atHome))
	step = must[account.Step](h)(h.Code(ctx, step.Ticket, h.last(adaAt).Code, atHome))
	if step.Next != account.NewPassword {
		t.Fatalf("%+v", step)
	}
	_, err := h.ResetPassword(ctx, step.Ticket, "password2024", atHome)
	h.refused(err, account.Invalid, "used most")
	again := must[account.Step](h)(h.ResetPassword(ctx, step.Ticket, "a bushel of medlar", atHome))
	if l := h.last(adaAt); l.Subject != "Your password was changed" {
		t.Errorf("%s", l.Subject)
	}
	_, err = h.ResetPassword(ctx, step.Ticket, "a bushel of quince", atHome)
	h.refused(err, account.Unproved, "was done before")
	if _, err := h.OfSession(ctx, before.Session, atHome.Addr); !errors.Is(err, store.ErrUnknownKey) {
		t.Errorf("a session of before goes on: %v", err)
	}
	h.caller(again)
	_, err = h.WithPassword(ctx, adaAt, password, atHome)
	h.refused(err, account.Unproved, "wrong")
}

// TestFactors: with a second factor signing in takes a code of the app, each once, or one of the recovery codes, each once.
func TestFactors(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	ada := h.signedUp("Ada Moss", adaAt)
	late := ada
	late.Session.ConfirmedAt = time.Now().Add(-time.Hour)
	_, err := h.NewFactor(ctx, late)
	h.refused(err, account.Unconfirmed, "Confirm that it is you")
	h.refused(h.SetTeam(ctx, ada, "Seeds", true, false), account.Conflict, "shut you out")

	e := must[account.Enrolment](h)(h.NewFactor(ctx, ada))
	_, err = h.SetFactor(ctx, ada, e.Ticket, "000000", atHome)
	h.refused(err, account.Unproved, "not the code that the app shows")
	code := must[string](h)(totp.GenerateCode(e.Secret, time.Now()))
	other := h.signedUp("Ben Ash", benAt)
	_, err = h.SetFactor(ctx, other, e.Ticket, code, atHome)
	h.refused(err, account.Unproved, "Begin again")
	codes := must[[]string](h)(h.SetFactor(ctx, ada, e.Ticket, code, atHome))

	enter := func(code string) (account.Step, error) {
		t.Helper()
		step := must[account.Step](h)(h.WithPassword(ctx, adaAt, password, atHome))
		if step.Next != account.EnterFactor || step.Session != "" {
			t.Fatalf("%+v", step)
		}
		return h.Factor(ctx, step.Ticket, code, atHome)
	}
	_, err = enter(code)
	h.refused(err, account.Unproved, "was used before")
	next := must[string](h)(totp.GenerateCode(e.Secret, time.Now().Add(30*time.Second)))
	if in := h.caller(must[account.Step](h)(enter(next[:3] + " " + next[3:]))); !in.HasFactor {
		t.Errorf("%+v", in)
	}
	h.caller(must[account.Step](h)(enter(strings.ToUpper(strings.ReplaceAll(codes[3], "-", " ")))))
	_, err = enter(codes[3])
	h.refused(err, account.Unproved, "was used before")
	fresh := must[[]string](h)(h.NewRecoveryCodes(ctx, ada, atHome))
	_, err = enter(codes[4])
	h.refused(err, account.Unproved, "wrong")
	h.caller(must[account.Step](h)(enter(fresh[4])))
	if err := h.RemoveFactor(ctx, ada, atHome); err != nil {
		t.Fatal(err)
	}
	h.caller(must[account.Step](h)(h.WithPassword(ctx, adaAt, password, atHome)))
}

// TestMoves: another address is taken by who gets the letter there; both are told, or neither and nothing is changed.
func TestMoves(t *testing.T) {
	const there = "ada@upperloam.example"
	h, ctx := newHouse(t), t.Context()
	ada, ben := h.signedUp("Ada Moss", adaAt), h.signedUp("Ben Ash", benAt)
	step := must[account.Step](h)(h.Move(ctx, ada, benAt, atHome))
	if l := h.last(benAt); l.Code != "" || h.Moved(ctx, ada, step.Ticket, "123456", atHome) == nil {
		t.Errorf("an address that has an account: %+v", l)
	}
	step = must[account.Step](h)(h.Move(ctx, ada, there, atHome))
	code := h.last(there).Code
	h.lost = there
	if err := h.Moved(ctx, ada, step.Ticket, code, atHome); err == nil {
		t.Error("the letter to the new address is lost, and nobody hears of it")
	}
	if p := must[store.Person](h)(h.Store.Person(ctx, ada.PersonID)); p.Address != adaAt {
		t.Errorf("the address is %s though not both could be told", p.Address)
	}
	h.lost = ""
	step = must[account.Step](h)(h.Move(ctx, ada, there, atHome))
	code = h.last(there).Code
	h.refused(h.Moved(ctx, ben, step.Ticket, code, atHome), account.Unproved, "Begin again")
	step = must[account.Step](h)(h.Move(ctx, ada, there, atHome))
	n := len(h.letters)
	if err := h.Moved(ctx, ada, step.Ticket, h.last(there).Code, atHome); err != nil || len(h.letters) != n+2 || h.letters[n].to != adaAt || h.letters[n+1].to != there {
		t.Errorf("%v: %d letters", err, len(h.letters)-n)
	}
	h.caller(must[account.Step](h)(h.WithPassword(ctx, there, password, atHome)))
}

// TestDevicesWithoutBrowser: a device without a browser is let in by who types its code, once, and waits its time between questions; a
// browser that was not seen before is told of.
func TestDevicesWithoutBrowser(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	ada := h.signedUp("Ada Moss", adaAt)
	ask := func() (device, code string) {
		t.Helper()
		device, code, _, err := h.AskIn(ctx, account.From{Addr: atWork.Addr, Agent: "varnet/1.0 (ada on shed)"})
		if err != nil {
			t.Fatal(err)
		}
		return device, code
	}
	device, code := ask()
	if _, err := h.IsIn(ctx, device, atWork); !errors.Is(err, account.ErrTooSoon) && !errors.Is(err, account.ErrWaiting) {
		t.Errorf("%v", err)
	}
	if _, err := h.IsIn(ctx, device, atWork); !errors.Is(err, account.ErrTooSoon) {
		t.Errorf("asked twice at once: %v", err)
	}
	if d, err := h.Waiting(ctx, ada, strings.ToLower(strings.ReplaceAll(code, "-", " ")), atHome); err != nil || d.Name != "ada on shed" || d.Place != atWork.Addr.String() {
		t.Errorf("%+v, %v", d, err)
	}
	late := ada
	late.Session.ConfirmedAt = time.Now().Add(-time.Hour)
	_, err := h.LetIn(ctx, late, code, true, atHome)
	h.refused(err, account.Unconfirmed, "Confirm that it is you")
	_, err = h.LetIn(ctx, ada, "BCDF-GHJK", true, atHome)
	h.refused(err, account.Unproved, "No device shows this code")
	must[account.Device](h)(h.LetIn(ctx, ada, code, true, atHome))
	if in := h.caller(must[account.Step](h)(h.IsIn(ctx, device, atWork))); in.PersonID != ada.PersonID || !in.Session.CommandLine {
		t.Errorf("%+v", in)
	}
	for _, err := range []error{second(h.IsIn(ctx, device, atWork)), second(h.LetIn(ctx, ada, code, true, atHome))} {
		if err == nil {
			t.Error("a device is let in twice")
		}
	}
	device, code = ask()
	must[account.Device](h)(h.LetIn(ctx, late, code, false, atHome))
	_, err = h.IsIn(ctx, device, atWork)
	h.refused(err, account.Unproved, "Begin again")

	must[account.Step](h)(h.WithPassword(ctx, adaAt, password, atWork))
	if l := h.last(adaAt); !strings.Contains(l.Subject, "new device") || h.events[len(h.events)-1].Code != event.DeviceNew {
		t.Errorf("%s", l.Subject)
	}
	n := len(h.letters)
	must[account.Step](h)(h.WithPassword(ctx, adaAt, password, atWork))
	if len(h.letters) != n {
		t.Errorf("a device that is known is told of: %s", h.letters[n].Subject)
	}
}

func second[T any](_ T, err error) error { return err }

// TestTeams: an invitation is for one address and once; a workspace keeps an owner, whoever leaves at the same time.
func TestTeams(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	ada, ben := h.signedUp("Ada Moss", adaAt), h.signedUp("Ben Ash", benAt)
	_, err := h.invite(ada, adaAt, account.Reader)
	h.refused(err, account.Conflict, "in this workspace already")
	_, err = h.invite(ada, benAt, "gardener")
	h.refused(err, account.Invalid, "no role")
	old := must[string](h)(h.invite(ada, benAt, account.Reader))
	link := must[string](h)(h.invite(ada, "Ben.Ash@fernhollow.example", account.Manager))
	_, err = h.Accept(ctx, ben, old)
	h.refused(err, account.Unproved, "used or withdrawn")
	_, err = h.Accept(ctx, h.signedUp("Cleo Fern", "cleo@fernhollow.example"), link)
	h.refused(err, account.Forbidden, "is for Ben.Ash@fernhollow.example")
	must[store.Invitation](h)(h.Accept(ctx, ben, link))
	_, err = h.Accept(ctx, ben, link)
	h.refused(err, account.Unproved, "used or withdrawn")
	if role := must[string](h)(h.Store.RoleOf(ctx, ada.WorkspaceID, ben.PersonID)); role != "manager" || h.events[len(h.events)-1].Code != event.MemberJoined {
		t.Errorf("%s", role)
	}

	h.refused(h.Leave(ctx, ada), account.Conflict, "at least one owner")
	h.refused(h.SetRole(ctx, ada, ada.PersonID, account.Member), account.Conflict, "at least one owner")
	h.refused(h.HandOver(ctx, ada, ada.PersonID), account.Conflict, "its owner")
	if err := errors.Join(h.SetRole(ctx, ada, ada.PersonID, account.Owner), h.SetRole(ctx, ada, ben.PersonID, account.Owner)); err != nil {
		t.Fatal(err)
	}
	left := make(chan error, 2)
	for _, who := range []int64{ada.PersonID, ben.PersonID} {
		go func() { left <- h.RemoveMember(ctx, ada, who) }()
	}
	if errs := []error{<-left, <-left}; (errs[0] == nil) == (errs[1] == nil) {
		t.Errorf("of two owners who leave at once: %v", errs)
	}
	owners := must[[]store.Member](h)(h.Store.Members(ctx, ada.WorkspaceID))
	if len(owners) != 1 || owners[0].Role != "owner" || !slices.Contains([]string{"Ada Moss", "Ben Ash"}, owners[0].Name) {
		t.Errorf("%+v", owners)
	}
}

// invite invites somebody, and returns the secret of the link.
func (h *house) invite(by account.Caller, at string, role account.Role) (string, error) {
	_, link, err := h.Invite(h.Context(), by, at, role, atHome)
	return link, err
}
