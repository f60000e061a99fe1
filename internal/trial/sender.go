// Package trial sends trial letters: by the submission server of a workspace, signed, at the
// pace of the operators they go to. What a letter must say and who gets one is decided by
// core/trial; what comes back is read by internal/bounce.
package trial

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"net/mail"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"varnet/core/outbound"
	"varnet/core/problem"
	"varnet/internal/bounce"
	"varnet/internal/connect"
	"varnet/internal/letter"
	side "varnet/internal/outbound"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// Post sends trial letters.
type Post struct {
	Store    *store.Store
	Secrets  *secret.Box
	Outbound *side.Outbound
	// Office knows where people reach the console, to which the unsubscribe links of letters lead.
	Office *letter.Office
	// Env is how submission servers are dialled and trusted.
	Env connect.Env
	// Desk imports what comes back.
	Desk *bounce.Desk
	// Between is the least time between two letters to one operator.
	Between time.Duration
	Now     func() time.Time

	mu sync.Mutex
	// later holds, by workspace, until when its submission server is left alone that did not
	// answer.
	later map[int64]time.Time
}

// What secrets of a sender are sealed for.
const (
	passwordPurpose = "submission server of trial letters"
	keyPurpose      = "DKIM key"
)

// Change is how a sender is to be.
type Change struct {
	store.TrialSender
	Password *string // nil: as it is; "": none
	// Key is a private key (PEM, RSA of 2048 bits or more) to sign by; nil: as it is, and a
	// new one where there is none.
	Key *string
}

// Set changes the sender of a workspace. It is to be tested then.
func (p *Post) Set(ctx context.Context, c Change) error {
	before, err := p.Store.TrialSender(ctx, c.WorkspaceID)
	if err != nil {
		return err
	}
	if err := p.check(c.TrialSender); err != nil {
		return err
	}
	switch {
	case c.Password == nil && before.Sealed != nil && letter.Elsewhere(before.Host, before.Port, c.Host, c.Port):
		return letter.EnterAgain()
	case c.Password == nil:
		c.Sealed = before.Sealed
	case *c.Password != "":
		c.Sealed = p.Secrets.Seal(*c.Password, passwordPurpose)
	}
	if c.Selector == "" {
		return p.Store.SetTrialSender(ctx, c.TrialSender)
	}
	switch {
	case c.Key == nil && before.Key != nil:
		c.TrialSender.Key, c.Record = before.Key, before.Record
	case c.Key == nil:
		err = p.newKey(&c.TrialSender)
	default:
		err = p.takeKey(&c.TrialSender, *c.Key)
	}
	if err != nil {
		return err
	}
	return p.Store.SetTrialSender(ctx, c.TrialSender)
}

// keyBits are the bits of a new key: enough for years, and short enough for DNS.
const keyBits = 2048

func (p *Post) newKey(s *store.TrialSender) error {
	key, err := rsa.GenerateKey(rand.Reader, keyBits)
	if err != nil {
		return err
	}
	return p.keep(s, key)
}

// takeKey takes a key that somebody has.
func (p *Post) takeKey(s *store.TrialSender, text string) error {
	block, _ := pem.Decode([]byte(text))
	wrong := problem.In("key", "it is not a private RSA key of at least 2048 bits in PEM form")
	if block == nil {
		return wrong
	}
	if key, err := x509.ParsePKCS1PrivateKey(block.Bytes); err == nil && key.N.BitLen() >= keyBits {
		return p.keep(s, key)
	}
	found, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if key, ok := found.(*rsa.PrivateKey); err == nil && ok && key.N.BitLen() >= keyBits {
		return p.keep(s, key)
	}
	return wrong
}

func (p *Post) keep(s *store.TrialSender, key *rsa.PrivateKey) error {
	public, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return err
	}
	s.Key = p.Secrets.Seal(base64.StdEncoding.EncodeToString(x509.MarshalPKCS1PrivateKey(key)), keyPurpose)
	s.Record = "v=DKIM1; k=rsa; p=" + base64.StdEncoding.EncodeToString(public)
	return nil
}

// signer returns the key to sign by; nil where letters are not signed.
func (p *Post) signer(s store.TrialSender) (crypto.Signer, error) {
	if s.Selector == "" {
		return nil, nil
	}
	text, err := p.Secrets.Open(s.Key, keyPurpose)
	if err != nil {
		return nil, fmt.Errorf("the DKIM key cannot be opened; was the secret changed? Set the sender again (%w)", err)
	}
	der, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, err
	}
	return x509.ParsePKCS1PrivateKey(der)
}

// Reseal seals what is sealed of senders with the present secret, and returns how much that is.
func (p *Post) Reseal(ctx context.Context) (n int, err error) {
	for what, purpose := range map[store.Sealed]string{store.TrialPasswords: passwordPurpose, store.TrialKeys: keyPurpose} {
		some, err := p.Store.Reseal(ctx, what, func(_ string, sealed []byte) ([]byte, error) { return p.Secrets.Reseal(sealed, purpose) })
		if err != nil {
			return n, err
		}
		n += some
	}
	return n, nil
}

// check reports the first thing that a sender cannot be.
func (p *Post) check(s store.TrialSender) error {
	if err := letter.CheckServer(s.Host, letter.Security(s.Security)); err != nil {
		return err
	}
	a, err := mail.ParseAddress(s.Sender)
	if err != nil || strings.TrimSpace(a.Name) == "" {
		return problem.In("sender", "%q is not a name with an address; write it as Fernhollow Seed Library <letters@fernhollow.example>", s.Sender)
	}
	for _, text := range s.Servers {
		if _, err := netip.ParseAddr(text); err != nil {
			return problem.In("servers", "%q is not an IP address", text)
		}
	}
	if s.Returns != "" {
		if local, _, ok := strings.Cut(s.Returns, "@"); !ok || strings.Contains(local, "+") {
			return problem.In("returns", "%q is not an address that a tag can be added to, such as bounces@fernhollow.example", s.Returns)
		}
	}
	if s.Selector != "" && strings.ContainsFunc(s.Selector, func(r rune) bool { return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' || r == '.') }) {
		return problem.In("selector", "%q is not a name in DNS", s.Selector)
	}
	return nil
}

// Test looks whether hosts can tell that letters come from the sender of a workspace, and
// records what it finds.
func (p *Post) Test(ctx context.Context, workspace int64) (store.TrialSender, error) {
	s, err := p.Store.TrialSender(ctx, workspace)
	if err != nil {
		return s, err
	}
	if s.Host == "" {
		return s, ErrNoSender
	}
	l := outbound.LetterSender{Domain: letter.DomainOf(s.Sender), Return: p.returnAddress(s, store.TrialLetter{MailingID: 1, Number: 1}), Selector: s.Selector, Key: s.Record}
	for _, text := range s.Servers {
		if ip, err := netip.ParseAddr(text); err == nil {
			l.Servers = append(l.Servers, ip)
		}
	}
	o := p.Outbound.Tester().TestLetterSender(ctx, l)
	now := p.Now()
	s.Outcome, s.TestedAt = &o, &now
	return s, p.Store.SetTrialOutcome(ctx, s)
}

// returnAddress is where bounces of a letter come back to: to Varnet itself, or to a mailbox
// that it reads.
func (p *Post) returnAddress(s store.TrialSender, l store.TrialLetter) string {
	if s.Returns == "" {
		return p.Desk.Tags.Address(l.MailingID, l.Number)
	}
	local, domain, _ := strings.Cut(s.Returns, "@")
	return local + "+" + p.Desk.Tags.Tag(l.MailingID, l.Number) + "@" + domain
}

// The reasons why no letters can be sent.
var (
	ErrOff      = errors.New("trial letters are off for this workspace; its owner turns them on")
	ErrNoSender = errors.New("there is no sender of trial letters yet; set one up")
	ErrUntested = errors.New("the sender of trial letters is not tested, or its test found a fault")
	ErrNoBase   = errors.New("nobody could unsubscribe: the installation's letter settings do not say yet where people reach this service")
	ErrNoReturn = errors.New("bounces could not come back: start the service with -returns, or write down the mailbox they come to")
)

// ready returns the sender of a workspace and where people reach the service, or why nothing
// can be sent.
func (p *Post) ready(ctx context.Context, workspace int64) (s store.TrialSender, base string, err error) {
	if s, err = p.Store.TrialSender(ctx, workspace); err != nil {
		return s, "", err
	}
	letters, err := p.Office.Settings(ctx)
	switch {
	case s.AllowedAt == nil:
		err = ErrOff
	case s.Host == "":
		err = ErrNoSender
	case !s.Usable():
		err = ErrUntested
	case errors.Is(err, letter.ErrNone):
		err = ErrNoBase
	case s.Returns == "" && p.Desk.Tags.Domain == "":
		err = ErrNoReturn
	}
	return s, letters.BaseURL, err
}

// IsProblem reports whether an error is why no letters can be sent as things are, and what to
// do about it.
func IsProblem(err error) bool {
	return slices.ContainsFunc([]error{ErrOff, ErrNoSender, ErrUntested, ErrNoBase, ErrNoReturn}, func(p error) bool { return errors.Is(err, p) })
}

// Problem returns why no letters can be sent as things are; nil: they can.
func (p *Post) Problem(ctx context.Context, workspace int64) error {
	_, _, err := p.ready(ctx, workspace)
	return err
}

// Preview returns a letter as its readers get it, but for the tag of its unsubscribe link.
func (p *Post) Preview(ctx context.Context, t store.Trial) (string, error) {
	if err := t.Text().Check(); err != nil {
		return "", err
	}
	settings, err := p.Office.Settings(ctx)
	if errors.Is(err, letter.ErrNone) {
		err = ErrNoBase
	}
	return t.Text().Letter(strings.TrimRight(settings.BaseURL, "/") + UnsubscribePath + "…"), err
}

// RecordName is the name of the DNS record of the DKIM key; "" where there is none.
func RecordName(s store.TrialSender) string {
	if s.Selector == "" {
		return ""
	}
	return s.Selector + "._domainkey." + letter.DomainOf(s.Sender)
}
