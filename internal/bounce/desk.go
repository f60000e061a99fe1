// Package bounce takes in what comes back after a mailing: out of files, over the API. It
// reads each message (core/bounce), tells which letters of which mailing it is about, keeps
// what became of them, and gives the addresses their new results in the lists that hold them.
package bounce

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/bounce"
	"varnet/core/event"
	"varnet/core/say"
	"varnet/internal/store"
)

// Way is how a message came in.
type Way string

// The ways.
const (
	ByFile  Way = "file"
	ByTable Way = "table"
	// ByReturn: a mail server handed it over, sent to a return address of ours.
	ByReturn Way = "return address"
)

// Desk takes messages in.
type Desk struct {
	Store *store.Store
	Tags  Tags
	Now   func() time.Time
	// Happened records an event with the transaction that makes it so.
	Happened func(ctx context.Context, s *store.Store, tx pgx.Tx, e event.Event) error
}

// Incoming is a message that comes in.
type Incoming struct {
	Raw []byte
	// Notice is what a line of a table says, in the place of a message; else nil.
	Notice *bounce.Notice
	// Envelope is the address it was sent to, where a mail server tells; else "".
	Envelope string
}

// Taken counts what came in.
type Taken struct {
	Messages  int // that were read
	Known     int // of them, that had come before
	Bounced   int // letters that came back for good
	Passing   int // letters that came back for a reason that passes, or of the sender's
	Delayed   int // letters that a host goes on trying
	Complains int // letters that somebody complained about
	Answers   int // auto-replies and challenges
	Others    int // reports of deliveries, receipts, letters of people
	Nobody    int // bounces, delays and complaints that are about no letter that is known
	Forged    int // whose return address carries a wrong tag
}

// Says says in sentences what came in.
func (t Taken) Says() string {
	if t.Messages == 0 {
		return "There is no message in it."
	}
	var parts []string
	add := func(n int, one, many string) {
		if n > 0 {
			parts = append(parts, say.Plural(int64(n), one, many))
		}
	}
	add(t.Bounced, "letter bounced for good", "letters bounced for good")
	add(t.Passing, "bounced for a reason that passes", "bounced for a reason that passes")
	add(t.Delayed, "is delayed", "are delayed")
	add(t.Complains, "was complained about", "were complained about")
	add(t.Answers, "auto-reply", "auto-replies")
	add(t.Others, "message of another kind", "messages of other kinds")
	add(t.Nobody, "about no letter that is known", "about no letters that are known")
	add(t.Forged, "with a wrong tag in its return address", "with a wrong tag in their return address")
	add(t.Known, "had come before", "had come before")
	return fmt.Sprintf("%s read: %s.", say.Plural(int64(t.Messages), "message", "messages"), strings.Join(parts, ", "))
}

// atOnce is how many messages are credited in one transaction.
const atOnce = 200

// ErrTooLarge is a message that cannot be read for its size.
var ErrTooLarge = errors.New("the message is too large")

// Take takes messages in, as next returns them until io.EOF. What was taken before an error
// stays: the same messages sent again change nothing.
func (d *Desk) Take(ctx context.Context, workspace int64, way Way, next func() (Incoming, error)) (t Taken, err error) {
	var some []message
	for {
		in, err := next()
		if err != nil && err != io.EOF {
			return t, err
		}
		if err == nil {
			some = append(some, read(in))
		}
		if len(some) == atOnce || err == io.EOF && len(some) > 0 {
			if err := d.credit(ctx, workspace, way, some, &t); err != nil {
				return t, err
			}
			some = some[:0]
		}
		if err == io.EOF {
			return t, nil
		}
	}
}

// message is a message that came back, read.
type message struct {
	bounce.Notice
	digest []byte
}

// read reads a message. Its digest leaves out the lines that hosts add on its way, so that
// the same message from two mailboxes is one.
func read(in Incoming) message {
	if in.Notice != nil {
		return message{*in.Notice, digestOf(*in.Notice)}
	}
	raw := in.Raw
	n := bounce.Read(raw)
	if in.Envelope != "" {
		n.To = append([]string{in.Envelope}, n.To...)
	}
	_, body, _ := bytes.Cut(bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n")), []byte("\n\n"))
	h := sha256.New()
	fmt.Fprintf(h, "%s\n%s\n%s\n", n.ID, n.Subject, n.At.UTC().Format(time.RFC3339))
	h.Write(bytes.TrimRight(body, "\n"))
	return message{n, h.Sum(nil)}
}

// digestOf is the digest of a line of a table: the same line, sent again, is one.
func digestOf(n bounce.Notice) []byte {
	h := sha256.New()
	fmt.Fprintf(h, "row\n%s\n%s\n%s\n%s\n%s\n", n.Original.ID, n.Subject, n.Words, n.At.UTC().Format(time.RFC3339), n.Kind)
	for _, r := range n.Recipients {
		fmt.Fprintln(h, r.Address)
	}
	return h.Sum(nil)
}

// credit keeps what messages say of the letters that they are about, in one transaction.
func (d *Desk) credit(ctx context.Context, workspace int64, way Way, some []message, t *Taken) error {
	letters, err := d.lettersOf(ctx, workspace, some)
	if err != nil {
		return err
	}
	if err := knowVerdicts(ctx, d.Store, d.Now()); err != nil {
		return err
	}
	var now Taken
	err = d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		now = Taken{}
		changed := map[letterKey]store.Mailed{}
		outcomes := map[string]store.KnownOutcome{}
		for _, m := range some {
			now.Messages++
			if err := d.creditOne(ctx, s, workspace, way, m, letters, &now, changed, outcomes); err != nil {
				return err
			}
		}
		if err := d.keep(ctx, s, workspace, changed, outcomes); err != nil {
			return err
		}
		return d.tellMany(ctx, s, tx, changed)
	})
	if err == nil {
		t.add(now)
	}
	return err
}

func (t *Taken) add(n Taken) {
	t.Messages, t.Known, t.Forged, t.Nobody = t.Messages+n.Messages, t.Known+n.Known, t.Forged+n.Forged, t.Nobody+n.Nobody
	t.Bounced, t.Passing, t.Delayed, t.Complains = t.Bounced+n.Bounced, t.Passing+n.Passing, t.Delayed+n.Delayed, t.Complains+n.Complains
	t.Answers, t.Others = t.Answers+n.Answers, t.Others+n.Others
}

type letterKey struct {
	mailing int64
	number  int
}

// creditOne records one message, and what it says of letters.
func (d *Desk) creditOne(ctx context.Context, s *store.Store, workspace int64, way Way, m message, letters *letters, t *Taken, changed map[letterKey]store.Mailed, outcomes map[string]store.KnownOutcome) error {
	var credits []bounce.Credit
	forged := d.Tags.forged(m.To)
	if !forged {
		credits = bounce.Whom(m.Notice, letters)
	}
	r := store.Returned{Way: string(way), Digest: m.digest, Kind: string(m.Kind), Sender: m.From, Host: m.Host, Subject: m.Subject, Words: m.Words, Credited: len(credits)}
	at := m.At
	if at.IsZero() || at.After(d.Now()) {
		at = d.Now()
	}
	r.At = &at
	switch {
	case forged:
		r.Says = "The return address that it was sent to carries a wrong tag: it is no bounce of a letter of ours."
	case len(credits) == 0:
		r.Says = nobody(m.Notice)
	}
	if tooMany(credits, m.Notice, letters) {
		t.Known++
		return nil
	}
	switch err := s.AddReturned(ctx, workspace, &r); {
	case errors.Is(err, store.ErrNotFound):
		t.Known++
		return nil
	case err != nil:
		return err
	}
	if forged {
		t.Forged++
		return nil
	}
	t.count(m.Notice, credits)
	for _, c := range credits {
		o, ok := bounce.Of(m.Notice, c.Recipient)
		letter, found := letters.letter(c, m.Notice)
		if !found {
			continue
		}
		if err := s.CountHeard(ctx, letter.MailingID, letter.Number); err != nil {
			return err
		}
		if !ok {
			continue
		}
		if now, was := changed[letterKey{letter.MailingID, letter.Number}]; was {
			letter = now
		}
		known := bounce.Known{Outcome: o, Permanent: c.Recipient.Permanent, At: at}
		if letter.Outcome != bounce.NoBounce && !known.Outweighs(knownOf(letter)) {
			continue
		}
		changed[letterKey{letter.MailingID, letter.Number}] = with(letter, c.Recipient, known, r.ID, m.Host)
		if before, was := outcomes[letter.Canonical]; !was || known.Outweighs(before.Known) {
			outcomes[letter.Canonical] = store.KnownOutcome{Known: known, Words: masked(c.Recipient, letter), Host: hostOf(c.Recipient, m.Host)}
		}
	}
	return nil
}

// mostHeard is how many messages are taken about one letter: hosts that keep warning send
// some ten.
const mostHeard = 50

// tooMany reports whether so much came back about the letters that no more is taken.
func tooMany(credits []bounce.Credit, n bounce.Notice, l *letters) bool {
	for _, c := range credits {
		if m, ok := l.letter(c, n); !ok || m.Heard < mostHeard {
			return false
		}
	}
	return len(credits) > 0
}

// knownOf returns what is known of a letter.
func knownOf(l store.Mailed) (k bounce.Known) {
	k.Outcome, k.Permanent = l.Outcome, l.Permanent
	if l.At != nil {
		k.At = *l.At
	}
	return k
}

// with returns a letter with its outcome.
func with(l store.Mailed, r bounce.Recipient, k bounce.Known, returned int64, reporter string) store.Mailed {
	l.Outcome, l.Permanent, l.At, l.ReturnedID = k.Outcome, k.Permanent, &k.At, &returned
	l.About, l.Cause, l.Words, l.Host = string(r.Meaning.About), string(r.Meaning.Cause), clean(r.Words), hostOf(r, reporter)
	if l.Final = ""; !strings.EqualFold(r.Final, l.Mailbox) {
		l.Final = clean(r.Final)
	}
	return l
}

func hostOf(r bounce.Recipient, reporter string) string {
	if r.Host != "" {
		return clean(r.Host)
	}
	return clean(reporter)
}

// masked returns the words of the host without the address.
func masked(r bounce.Recipient, l store.Mailed) string {
	words := clean(r.Words)
	for _, a := range []string{r.Final, r.Address, l.Mailbox, l.Canonical} {
		if a != "" {
			words = replaceFold(words, a, "[address]")
		}
	}
	return words
}

func replaceFold(text, old, now string) string {
	lower, low := strings.ToLower(text), strings.ToLower(old)
	if len(lower) != len(text) {
		return strings.ReplaceAll(text, old, now)
	}
	var b strings.Builder
	for {
		i := strings.Index(lower, low)
		if i < 0 {
			b.WriteString(text)
			return b.String()
		}
		b.WriteString(text[:i] + now)
		text, lower = text[i+len(old):], lower[i+len(low):]
	}
}

// clean makes words of strangers fit to be kept: no control characters but line breaks.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' || r == 0x7f || r == '\ufffd' {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, ""))
}

// count counts what a message says.
func (t *Taken) count(n bounce.Notice, credits []bounce.Credit) {
	switch n.Kind {
	case bounce.AutoReply, bounce.Challenge:
		t.Answers++
		return
	case bounce.Delivery, bounce.Other:
		t.Others++
		return
	}
	if len(credits) == 0 {
		t.Nobody++
	}
	for _, c := range credits {
		switch o, _ := bounce.Of(n, c.Recipient); {
		case o == bounce.Complained:
			t.Complains++
		case o == bounce.Late:
			t.Delayed++
		case c.Recipient.Permanent:
			t.Bounced++
		case o == bounce.Bounced:
			t.Passing++
		}
	}
}

// nobody says why a message is about no letter.
func nobody(n bounce.Notice) string {
	switch {
	case n.Kind == bounce.Other || n.Kind == bounce.Delivery:
		return "It reports no failure."
	case n.Kind == bounce.AutoReply || n.Kind == bounce.Challenge:
		return "It is an answer of a mailbox, not a bounce."
	case n.Original.ID != "":
		return "The message that came back with it is none of a mailing that is known here."
	case len(n.Recipients) == 0:
		return "It names no recipient."
	}
	return "The recipients it names are in no mailing that is known here."
}

// keep writes down what became of letters, and what is known of their addresses by it.
func (d *Desk) keep(ctx context.Context, s *store.Store, workspace int64, changed map[letterKey]store.Mailed, outcomes map[string]store.KnownOutcome) error {
	list := make([]store.Mailed, 0, len(changed))
	for _, l := range changed {
		list = append(list, l)
	}
	if len(list) == 0 {
		return nil
	}
	if err := s.SetMailed(ctx, list); err != nil {
		return err
	}
	return d.remember(ctx, s, workspace, outcomes)
}

// From how many letters on, and beyond which share in per cent, it is told that many bounced:
// with more than 2 in 100 the reputation of a sender suffers.
const (
	manyOf      = 50
	manyPercent = 2
)

// tellMany tells once of each mailing of which too much has bounced.
func (d *Desk) tellMany(ctx context.Context, s *store.Store, tx pgx.Tx, changed map[letterKey]store.Mailed) error {
	seen := map[int64]bool{}
	for k := range changed {
		if seen[k.mailing] || d.Happened == nil {
			continue
		}
		seen[k.mailing] = true
		m, many, err := s.TellBounces(ctx, k.mailing, manyOf, manyPercent)
		if err != nil {
			return err
		}
		if !many {
			continue
		}
		counts, err := s.OutcomeCounts(ctx, m.WorkspaceID, m.ID)
		if err != nil {
			return err
		}
		e := event.Event{Code: event.MailingBounces, Workspace: m.WorkspaceID, Says: Sum(counts, nil).Sentence(), Data: event.Data{MailingID: m.ID, Mailing: m.Name}}
		if err := d.Happened(ctx, s, tx, e); err != nil {
			return err
		}
	}
	return nil
}

// remember keeps what became known of addresses, and decides anew on them.
func (d *Desk) remember(ctx context.Context, s *store.Store, workspace int64, outcomes map[string]store.KnownOutcome) error {
	if len(outcomes) == 0 {
		return nil
	}
	if err := s.RememberOutcomes(ctx, workspace, outcomes); err != nil {
		return err
	}
	return d.decideAnew(ctx, s, workspace, outcomes)
}
