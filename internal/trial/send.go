package trial

import (
	"bytes"
	"context"
	"crypto"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"varnet/core/say"
	"varnet/core/trial"
	"varnet/internal/letter"
	"varnet/internal/store"
)

// The bounds of sending.
const (
	atOnce     = 200              // letters that are looked at in one pass, of an operator one each
	slice      = 20 * time.Second // until a job gives way to others
	handWait   = time.Minute      // for the whole of a command
	serverRest = time.Minute      // after a submission server did not answer
	tryAgain   = 15 * time.Minute // after it put a letter off
	giveUp     = 48 * time.Hour   // after the order, letters that it puts off are refused
)

// Send sends the letters of a mailing that may leave now. It returns after a while, whatever
// remains; once nothing waits any more, the watch begins.
func (p *Post) Send(ctx context.Context, m store.Mailing) error {
	if p.rests(m.WorkspaceID) {
		return nil
	}
	r := round{Post: p, m: m}
	defer r.end()
	err := r.run(ctx)
	var f *failure
	if errors.As(err, &f) {
		p.leaveAlone(m.WorkspaceID)
		return p.say(ctx, m, f.Error())
	}
	return err
}

// rests reports whether the submission server of a workspace is left alone.
func (p *Post) rests(workspace int64) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return time.Now().Before(p.later[workspace])
}

func (p *Post) leaveAlone(workspace int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.later == nil {
		p.later = map[int64]time.Time{}
	}
	p.later[workspace] = time.Now().Add(serverRest)
}

// say keeps why a mailing does not go on.
func (p *Post) say(ctx context.Context, m store.Mailing, why string) error {
	if m.Says == why {
		return nil
	}
	m.Says = why
	return p.Store.SetMailing(ctx, m, store.MailingSending)
}

// failure tells that no letter can leave now.
type failure struct{ why string }

func (f *failure) Error() string { return f.why }

// round is letters of a mailing that are sent in one session.
type round struct {
	*Post
	m      store.Mailing
	sender store.TrialSender
	base   string
	key    crypto.Signer
	client *smtp.Client
}

// run sends letter after letter, of each operator one at a time.
func (r *round) run(ctx context.Context) (err error) {
	if r.sender, r.base, err = r.ready(ctx, r.m.WorkspaceID); err != nil {
		return &failure{say.Sentence(err.Error())}
	}
	if r.key, err = r.signer(r.sender); err != nil {
		return &failure{err.Error()}
	}
	for end := time.Now().Add(slice); time.Now().Before(end); {
		sent, wait, err := r.pass(ctx)
		if err != nil {
			return err
		}
		if sent > 0 {
			continue
		}
		if wait == 0 || time.Now().Add(wait).After(end) {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
	}
	return r.watch(ctx)
}

// pass sends at most one letter to each operator. wait is until when the next one may leave; 0:
// none waits for the pace alone.
func (r *round) pass(ctx context.Context) (sent int, wait time.Duration, err error) {
	now := r.Now()
	before, err := r.Store.TrialsSent(ctx, r.m.WorkspaceID, now.Add(-24*time.Hour))
	if err != nil {
		return 0, 0, err
	}
	next, last, err := r.Store.NextTrialLetters(ctx, r.m.ID, now, atOnce)
	if err != nil {
		return 0, 0, err
	}
	side, err := r.setup(ctx, r.m.WorkspaceID)
	if err != nil {
		return 0, 0, err
	}
	for _, l := range next {
		if before+sent >= r.sender.Daily {
			return sent, 0, nil
		}
		due := last[l.Operator].Add(r.rest(side, l.Operator))
		if opens := side.Opens(l.Operator, now); opens.After(due) {
			due = opens
		}
		if rest := due.Sub(now); rest > 0 {
			if wait == 0 || rest < wait {
				wait = rest
			}
			continue
		}
		gone, err := r.one(ctx, l, now)
		if err != nil {
			return sent, 0, err
		}
		if gone {
			sent++
		}
	}
	return sent, wait, nil
}

// one sends a letter; gone is false where its address gets none, or where it was put off.
func (r *round) one(ctx context.Context, l store.TrialLetter, now time.Time) (gone bool, err error) {
	known, err := r.Store.KnownOutcomes(ctx, r.m.WorkspaceID, []string{l.Canonical})
	if err != nil {
		return false, err
	}
	if struck(known[l.Canonical]) != trial.Gets {
		return false, r.Store.SetTrialLetter(ctx, l, store.TrialLeftOut, now, "")
	}
	raw, err := r.message(r.sender, *r.m.Trial, r.base, l, now, r.key)
	if err != nil {
		return false, r.Store.SetTrialLetter(ctx, l, store.TrialRefused, now, err.Error())
	}
	if err := r.connect(ctx); err != nil {
		return false, err
	}
	if ok, _ := r.client.Extension("SMTPUTF8"); !ok && !ascii(l.Mailbox) {
		return false, r.Store.SetTrialLetter(ctx, l, store.TrialRefused, now, "The submission server takes no addresses with letters outside ASCII (SMTPUTF8, RFC 6531).")
	}
	if claimed, err := r.Store.ClaimTrialLetter(ctx, r.m.WorkspaceID, l, now); err != nil || !claimed {
		return false, err
	}
	at, said := r.hand(r.returnAddress(r.sender, l), l.Mailbox, raw)
	return r.took(ctx, l, now, at, said)
}

// step is how far the handing over of a letter came.
type step int

const (
	atSender    step = iota // whom it comes from was not taken
	atRecipient             // nor was the letter
	atEnd                   // all of it was handed over, and the answer is wanting or a refusal
)

// took records what the submission server said to a letter.
func (r *round) took(ctx context.Context, l store.TrialLetter, now time.Time, at step, said error) (gone bool, err error) {
	var refusal *smtp.SMTPError
	broke := said != nil && !errors.As(said, &refusal)
	waits := now.Sub(r.m.CreatedAt) < giveUp
	if broke {
		r.end()
	}
	switch {
	case said == nil:
		return true, r.Store.SetTrialLetter(ctx, l, store.TrialSent, now, "")
	case broke && at == atEnd: // whether it was taken is not known, so it is not sent again
		return false, &failure{r.server() + " broke off: " + letter.Shown(said.Error()) + "."}
	case broke && waits:
		return false, r.later(ctx, l, now, " broke off: "+letter.Shown(said.Error())+".")
	case at == atSender && waits: // which is not about the letter
		return false, r.later(ctx, l, now, " takes no letters from "+r.sender.Sender+": "+letter.Shown(said.Error())+".")
	case !broke && refusal.Temporary() && waits:
		return false, r.Store.ReleaseTrialLetter(ctx, r.m.WorkspaceID, l, store.TrialWaiting, now.Add(tryAgain), "")
	}
	return false, r.Store.ReleaseTrialLetter(ctx, r.m.WorkspaceID, l, store.TrialRefused, now, letter.Shown(said.Error()))
}

// later puts a letter back that was not taken, and returns why no other leaves now either.
func (r *round) later(ctx context.Context, l store.TrialLetter, now time.Time, why string) error {
	if err := r.Store.ReleaseTrialLetter(ctx, r.m.WorkspaceID, l, store.TrialWaiting, now.Add(serverRest), ""); err != nil {
		return err
	}
	return &failure{r.server() + why}
}

func (r *round) server() string {
	return "The submission server " + net.JoinHostPort(r.sender.Host, strconv.Itoa(r.sender.Port))
}

// connect opens the session, once.
func (r *round) connect(ctx context.Context) error {
	if r.client != nil {
		return nil
	}
	c, err := r.dial(ctx)
	if err == nil && r.sender.Username != "" {
		err = r.signIn(c)
	}
	if err != nil {
		if c != nil {
			_ = c.Close()
		}
		return &failure{r.server() + " takes no letters: " + letter.Shown(err.Error()) + "."}
	}
	r.client = c
	return nil
}

func (r *round) dial(ctx context.Context) (*smtp.Client, error) {
	conn, err := r.Env.Dial(ctx, "tcp", net.JoinHostPort(r.sender.Host, strconv.Itoa(r.sender.Port)))
	if err != nil {
		return nil, err
	}
	trust := r.Env.TLSFor(r.sender.Host)
	var c *smtp.Client
	switch letter.Security(r.sender.Security) {
	case letter.TLS:
		c = smtp.NewClient(tls.Client(conn, trust))
	case letter.StartTLS:
		if c, err = smtp.NewClientStartTLS(conn, trust); err != nil {
			return nil, err
		}
	default:
		c = smtp.NewClient(conn)
	}
	c.CommandTimeout, c.SubmissionTimeout = handWait, handWait
	return c, c.Hello(letter.DomainOf(r.sender.Sender))
}

func (r *round) signIn(c *smtp.Client) error {
	password, err := r.Secrets.Open(r.sender.Sealed, passwordPurpose)
	if err != nil {
		return fmt.Errorf("its password cannot be opened; was the secret changed? Set it again (%w)", err)
	}
	if !c.SupportsAuth(sasl.Plain) && c.SupportsAuth(sasl.Login) {
		return c.Auth(sasl.NewLoginClient(r.sender.Username, password))
	}
	return c.Auth(sasl.NewPlainClient("", r.sender.Username, password))
}

// hand hands a letter over (RFC 6409), and returns how far that came.
func (r *round) hand(from, to string, raw []byte) (step, error) {
	var options *smtp.MailOptions
	if !ascii(to) {
		options = &smtp.MailOptions{UTF8: true}
	}
	if err := r.client.Mail(from, options); err != nil {
		_ = r.client.Reset()
		return atSender, err
	}
	if err := r.client.Rcpt(to, nil); err != nil {
		_ = r.client.Reset()
		return atRecipient, err
	}
	w, err := r.client.Data()
	if err != nil {
		return atRecipient, err
	}
	if _, err := bytes.NewReader(raw).WriteTo(w); err != nil {
		return atRecipient, err // without its end no letter is taken (RFC 5321, 4.1.1.4)
	}
	return atEnd, w.Close()
}

func ascii(text string) bool {
	for _, r := range text {
		if r >= 0x80 {
			return false
		}
	}
	return true
}

func (r *round) end() {
	if r.client != nil {
		_ = r.client.Quit()
		_ = r.client.Close()
		r.client = nil
	}
}

// watch begins the watch once no letter waits any more.
func (r *round) watch(ctx context.Context) error {
	states, refusal, err := r.Store.TrialStates(ctx, r.m.ID)
	if err != nil {
		return err
	}
	if states[store.TrialWaiting] > 0 {
		return r.say(ctx, r.m, "")
	}
	m := r.m
	m.Says, m.State, m.SentAt, m.Letters = "", store.MailingWatching, r.Now(), states[store.TrialSent]+states[store.TrialSending]
	if n := states[store.TrialRefused]; n > 0 {
		m.Says = fmt.Sprintf("%s refused %s, the last with: %s", r.server(), say.Plural(n, "letter", "letters"), refusal)
	}
	if m.Letters == 0 {
		at := r.Now()
		m.State, m.ClosedAt = store.MailingClosed, &at
	}
	if err := r.Store.SetMailing(ctx, m, store.MailingSending); err != nil {
		return err
	}
	return r.Store.ForgetUnsent(ctx, m.ID)
}

// Stop has the letters of a mailing that wait not be sent.
func (p *Post) Stop(ctx context.Context, m store.Mailing) error {
	return p.Store.StopTrialLetters(ctx, m.ID, p.Now())
}
