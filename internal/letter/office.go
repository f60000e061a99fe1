package letter

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"varnet/core/problem"
	"varnet/core/say"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// Security is how the connection to the submission server is sealed.
type Security string

// The ways (RFC 8314).
const (
	TLS      Security = "tls"      // from the first byte, usually on port 465
	StartTLS Security = "starttls" // after STARTTLS, usually on port 587; never without it
	Plain    Security = "none"     // on this machine alone
)

// ErrNone tells that no submission server is set up.
var ErrNone = errors.New("no submission server is set up, so no letter can be sent")

// Office keeps the submission server's settings and sends letters by it.
type Office struct {
	Store   *store.Store
	Secrets *secret.Box
}

const purpose = "submission server"

// Settings returns the settings; ErrNone where there are none.
func (o *Office) Settings(ctx context.Context) (store.LetterServer, error) {
	s, err := o.Store.LetterServer(ctx)
	if errors.Is(err, store.ErrNotFound) {
		err = ErrNone
	}
	return s, err
}

// Set changes the settings. A nil password leaves the one that is there.
func (o *Office) Set(ctx context.Context, s store.LetterServer, password *string) error {
	if err := check(s); err != nil {
		return err
	}
	switch {
	case password == nil:
		before, err := o.Settings(ctx)
		if err != nil && !errors.Is(err, ErrNone) {
			return err
		}
		if before.Sealed != nil && Elsewhere(before.Host, before.Port, s.Host, s.Port) {
			return EnterAgain()
		}
		s.Sealed = before.Sealed
	case *password != "":
		s.Sealed = o.Secrets.Seal(*password, purpose)
	}
	return o.Store.SetLetterServer(ctx, s)
}

// Reseal seals the password of the submission server with the present secret, and returns
// whether there is one.
func (o *Office) Reseal(ctx context.Context) (int, error) {
	return o.Store.Reseal(ctx, store.LetterPasswords, func(_ string, sealed []byte) ([]byte, error) { return o.Secrets.Reseal(sealed, purpose) })
}

func check(s store.LetterServer) error {
	if _, err := mail.ParseAddress(s.Sender); err != nil {
		return problem.In("sender", "%q is not an address; write one such as Varnet <varnet@fernhollow.example>", s.Sender)
	}
	if err := CheckServer(s.Host, Security(s.Security)); err != nil {
		return err
	}
	if u, err := url.Parse(s.BaseURL); err != nil || u.Scheme != "https" && !(u.Scheme == "http" && loopback(u.Hostname())) || u.Host == "" {
		return problem.In("baseUrl", "%q is not where people reach the console; write it as https://varnet.fernhollow.example", s.BaseURL)
	}
	return nil
}

// CheckServer reports what a submission server cannot be.
func CheckServer(host string, security Security) error {
	if strings.ContainsAny(host, "/@ \r\n") || host == "" {
		return problem.In("host", "%q is not a host name", host)
	}
	if security == Plain && !loopback(host) {
		return problem.In("security", "without TLS letters go to a server on this machine alone, such as 127.0.0.1")
	}
	return nil
}

// Elsewhere reports whether a password that was entered for one server would go to another: who may change the
// server need not know it.
func Elsewhere(host string, port int, now string, nowPort int) bool {
	return !strings.EqualFold(host, now) || port != nowPort
}

// EnterAgain is what is wrong where a password is left out that would go elsewhere.
func EnterAgain() error {
	return problem.In("password", "the one that is kept was entered for another server; enter it again")
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// within is how long a letter may take to be handed over.
const within = 30 * time.Second

// Send hands a letter to the submission server (RFC 6409). What comes back as an error names
// the step that failed, in the server's words where it had some.
func (o *Office) Send(ctx context.Context, to string, l Letter) error {
	s, err := o.Settings(ctx)
	if err != nil {
		return err
	}
	m, err := message(s, to, l)
	if err != nil {
		return err
	}
	options := []gomail.Option{gomail.WithPort(s.Port), gomail.WithTimeout(within), gomail.WithTLSConfig(&tls.Config{ServerName: s.Host, MinVersion: tls.VersionTLS12})}
	switch Security(s.Security) {
	case TLS:
		options = append(options, gomail.WithSSL())
	case StartTLS:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory))
	default:
		options = append(options, gomail.WithTLSPolicy(gomail.NoTLS))
	}
	if s.Username != "" {
		password, err := o.Secrets.Open(s.Sealed, purpose)
		if err != nil {
			return fmt.Errorf("the password of the submission server cannot be opened; was the secret changed? Set it again (%w)", err)
		}
		auth := gomail.SMTPAuthAutoDiscover
		if Security(s.Security) == Plain {
			auth = gomail.SMTPAuthPlainNoEnc // on this machine alone
		}
		options = append(options, gomail.WithSMTPAuth(auth), gomail.WithUsername(s.Username), gomail.WithPassword(password))
	}
	c, err := gomail.NewClient(s.Host, options...)
	if err != nil {
		return err
	}
	if err := c.DialAndSendWithContext(ctx, m); err != nil {
		return &Refused{fmt.Sprintf("%s:%d", s.Host, s.Port), err}
	}
	return nil
}

// Refused tells that the submission server did not take a letter.
type Refused struct {
	Server string
	err    error
}

func (r *Refused) Error() string {
	return fmt.Sprintf("the submission server %s did not take the letter: %s", r.Server, Shown(r.err.Error()))
}

func (r *Refused) Unwrap() error { return r.err }

// mostWords is how much of a server's words is told, in characters.
const mostWords = 400

// Shown makes the words of a server safe to be shown, on one line.
func Shown(text string) string {
	runes := []rune(say.Line(text))
	return string(runes[:min(len(runes), mostWords)])
}

// message is a letter as a message with both parts.
func message(s store.LetterServer, to string, l Letter) (*gomail.Msg, error) {
	m := gomail.NewMsg()
	if err := m.From(s.Sender); err != nil {
		return nil, err
	}
	if err := m.To(to); err != nil {
		return nil, problem.In("to", "%q is not an address", to)
	}
	page, err := l.HTML()
	if err != nil {
		return nil, err
	}
	m.Subject(l.Subject)
	m.SetDate()
	if l.ID == "" {
		m.SetMessageID()
	} else {
		m.SetMessageIDWithValue(l.ID + "@" + DomainOf(s.Sender))
	}
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834, 5: nobody's vacation answers it
	if l.Unsubscribe != "" {
		m.SetGenHeader("List-Unsubscribe", "<"+l.Unsubscribe+">")
	}
	m.SetBodyString(gomail.TypeTextPlain, l.Text())
	m.AddAlternativeString(gomail.TypeTextHTML, page)
	if l.Picture != nil {
		if err := m.EmbedReader("flow.png", bytes.NewReader(l.Picture.PNG), gomail.WithFileContentID("<"+pictureID+">"), gomail.WithFileContentType("image/png")); err != nil {
			return nil, err
		}
	}
	for _, f := range l.Files {
		if err := m.AttachReader(f.Name, bytes.NewReader(f.Content), gomail.WithFileContentType(gomail.ContentType(f.Type))); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// pictureID is by which the page names the picture (RFC 2392).
const pictureID = "flow"

// DomainOf returns the domain of a sender that was checked.
func DomainOf(sender string) string {
	a, err := mail.ParseAddress(sender)
	if err != nil {
		return "localhost"
	}
	return a.Address[strings.LastIndex(a.Address, "@")+1:]
}

// Test is the letter by which the settings are tried.
func Test(s store.LetterServer) Letter {
	return Letter{Subject: "A test letter of Varnet", Paragraphs: []string{
		"This letter was sent to try the settings by which Varnet sends letters. It has arrived, so they are right.",
		"Codes for signing in, invitations and news of runs will come the same way."},
		Link: &Link{"Open Varnet", s.BaseURL},
		Why:  "You get this letter because an owner of this installation had it sent to you."}
}
