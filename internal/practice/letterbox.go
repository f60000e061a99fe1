package practice

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Delivered is a letter that came to the letterbox.
type Delivered struct {
	From, To, Subject, Text, HTML string
	ID                            string // its Message-ID
	Raw                           []byte `json:"-"` // the whole letter
	At                            time.Time
	Files                         []Enclosed
}

// Enclosed is a picture in a letter, or a file attached to it.
type Enclosed struct {
	Name, Type string
	Content    []byte
}

// Letterbox is a submission server that takes every letter and shows it on a page.
type Letterbox struct {
	// SMTP and Page are where it listens.
	SMTP, Page string
	// User and Password are what it wants to be signed in with; none where User is "".
	User, Password string

	mu      sync.Mutex
	letters []Delivered
	passOn  func(Delivered) // nil: letters stay here
	passed  []Posted
}

// mostLetters is how many letters are kept, the latest.
const mostLetters = 200

// mostLetter bounds a letter, in bytes.
const mostLetter = 1 << 20

// StartLetterbox starts a letterbox of the practice internet.
func (i *Internet) StartLetterbox(listenSMTP, listenPage, user, password string) (*Letterbox, error) {
	box := &Letterbox{User: user, Password: password}
	l, err := net.Listen("tcp", listenSMTP)
	if err != nil {
		return nil, fmt.Errorf("practice letterbox: %w", err)
	}
	p, err := net.Listen("tcp", listenPage)
	if err != nil {
		_ = l.Close()
		return nil, fmt.Errorf("practice letterbox: %w", err)
	}
	box.SMTP, box.Page = l.Addr().String(), "http://"+p.Addr().String()
	s := smtp.NewServer(box)
	s.Domain, s.AllowInsecureAuth, s.MaxMessageBytes, s.MaxRecipients = "letterbox.invalid", true, mostLetter, 10
	s.ReadTimeout, s.WriteTimeout = 30*time.Second, 30*time.Second
	page := &http.Server{Handler: box, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.Serve(l) }()
	go func() { _ = page.Serve(p) }()
	i.closers = append(i.closers, func() { _ = s.Close() }, func() { _ = page.Close() })
	return box, nil
}

// Letters returns the letters to an address, the latest first; "" stands for all.
func (b *Letterbox) Letters(to string) []Delivered {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := []Delivered{}
	for _, l := range slices.Backward(b.letters) {
		if to == "" || l.To == to {
			out = append(out, l)
		}
	}
	return out
}

// NewSession begins a session.
func (b *Letterbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &posting{box: b}, nil }

// posting is one session.
type posting struct {
	box    *Letterbox
	signed bool
	from   string
	to     []string
}

func (p *posting) AuthMechanisms() []string { return []string{sasl.Plain} }

func (p *posting) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != p.box.User || password != p.box.Password {
			return errors.New("the name or the password is wrong")
		}
		p.signed = true
		return nil
	}), nil
}

func (p *posting) Mail(from string, _ *smtp.MailOptions) error {
	if p.box.User != "" && !p.signed {
		return smtp.ErrAuthRequired
	}
	p.from = from
	return nil
}

func (p *posting) Rcpt(to string, _ *smtp.RcptOptions) error { p.to = append(p.to, to); return nil }

func (p *posting) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m, err := mail.CreateReader(bytes.NewReader(raw))
	if err != nil {
		return err
	}
	l := Delivered{From: p.from, At: time.Now(), Raw: raw}
	l.Subject, _ = m.Header.Subject()
	l.ID, _ = m.Header.MessageID()
	for {
		part, err := m.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		text, err := io.ReadAll(part.Body)
		if err != nil {
			return err
		}
		l.take(part.Header, text)
	}
	p.box.mu.Lock()
	defer p.box.mu.Unlock()
	for _, to := range p.to {
		l.To = to
		p.box.letters = append(p.box.letters, l)
		if p.box.passOn != nil {
			p.box.passed = append(p.box.passed, Posted{To: to, ID: l.ID, ReturnPath: l.From, At: l.At})
			p.box.passOn(l)
		}
	}
	if over := len(p.box.letters) - mostLetters; over > 0 {
		p.box.letters = p.box.letters[over:]
	}
	return nil
}

// take takes a part of a letter.
func (l *Delivered) take(h mail.PartHeader, content []byte) {
	kind, named, _ := mime.ParseMediaType(h.Get("Content-Type"))
	switch {
	case kind == "text/html":
		l.HTML = string(content)
	case kind == "text/plain":
		l.Text = string(content)
	default:
		l.Files = append(l.Files, Enclosed{named["name"], kind, content})
		if id := strings.Trim(h.Get("Content-Id"), "<>"); id != "" { // a page shows it
			l.HTML = strings.ReplaceAll(l.HTML, "cid:"+id, "data:"+kind+";base64,"+base64.StdEncoding.EncodeToString(content))
		}
	}
}

func (p *posting) Reset() { p.from, p.to = "", nil }

func (p *posting) Logout() error { return nil }

// ServeHTTP shows the letters: as a page, and at /letters as JSON.
func (b *Letterbox) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src data:; frame-src 'self'")
	switch r.URL.Path {
	case "/letters":
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(b.Letters(r.URL.Query().Get("to")))
	case "/":
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = letterboxPage.Execute(w, b.Letters(""))
	default:
		http.NotFound(w, r)
	}
}

var letterboxPage = template.Must(template.New("letterbox").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>Letterbox</title>
<style>body{margin:0 auto;max-width:900px;padding:16px 24px;font:16px/24px sans-serif;background:#faf7f1;color:#1d2b3a}
h1{font-size:28px;line-height:40px}h2{font-size:19px;margin:32px 0 0}iframe{width:100%;height:420px;border:1px solid #d9d1c1;background:#faf7f1}
p{margin:0 0 8px;color:#57616b}</style></head><body>
<h1>Letterbox of the practice internet</h1>
{{range .}}<h2>{{.Subject}}</h2><p>to {{.To}}, from {{.From}}, {{.At.Format "15:04:05"}}{{range .Files}}, with {{.Name}}{{end}}</p>
<iframe sandbox srcdoc="{{.HTML}}" title="{{.Subject}}"></iframe>
{{else}}<p>No letter has come yet.</p>{{end}}</body></html>`))
