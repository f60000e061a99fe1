// Package bounce imports what comes back after a mailing: out of files, over the API. It
// reads each message (core/bounce), tells which letters of which mailing it is about, keeps
// what became of them, and gives the addresses their new results in the lists that hold them.
package bounce

import (
	"bytes"
	"context"
	"crypto/sha256"
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
	// ByMailbox: it was read over IMAP.
	ByMailbox Way = "mailbox"
	// ByCall: a program called with it.
	ByCall Way = "webhook"
	// ByReturn: a mail server handed it over, sent to a return address of ours.
	ByReturn Way = "return address"
)

// Desk imports messages.
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

// Imported counts what came in.
type Imported struct {
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
func (t Imported) Says() string {
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

// Import imports messages, as next returns them until io.EOF. What was taken before an error
// stays: the same messages sent again change nothing.
func (d *Desk) Import(ctx context.Context, workspace int64, way Way, next func() (Incoming, error)) (t Imported, err error) {
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

func (t *Imported) add(n Imported) {
	t.Messages, t.Known, t.Forged, t.Nobody = t.Messages+n.Messages, t.Known+n.Known, t.Forged+n.Forged, t.Nobody+n.Nobody
	t.Bounced, t.Passing, t.Delayed, t.Complains = t.Bounced+n.Bounced, t.Passing+n.Passing, t.Delayed+n.Delayed, t.Complains+n.Complains
	t.Answers, t.Others = t.Answers+n.Answers, t.Others+n.Others
}
