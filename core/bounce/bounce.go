// Package bounce reads what comes back after a message was sent: delivery status
// notifications (RFC 3464, RFC 6533), the notices that hosts write in forms of their own,
// complaints (RFC 5965), and what is none of these though it comes to the same mailbox:
// auto-replies, challenges, receipts.
//
// Read takes a message apart and returns what it says, of whom, and why; the reason is read
// as replies of hosts are (package reply). Whom then returns which of the addresses that a
// mailing went to it is about.
//
//	n := bounce.Read(raw)
//	for _, credit := range bounce.Whom(n, sent) {
//		// credit.Address bounced for good, or was put off, or complained
//	}
package bounce

import (
	"net/mail"
	"strings"
	"time"

	"varnet/core/reply"
	"varnet/core/say"
)

// Kind is what a message that came back is.
type Kind string

// The kinds.
const (
	// Bounce reports a delivery that failed for good: nobody tries any more.
	Bounce Kind = "bounce"
	// Delay reports that a host goes on trying (RFC 3464 section 2.3.3).
	Delay Kind = "delay"
	// Delivery reports that the message was delivered, relayed or expanded.
	Delivery Kind = "delivery"
	// Complaint is a report that the person does not want such mail (RFC 5965).
	Complaint Kind = "complaint"
	// AutoReply is an answer of the mailbox itself (RFC 3834), such as an absence note.
	AutoReply Kind = "auto-reply"
	// Challenge asks the sender to prove that a person wrote.
	Challenge Kind = "challenge"
	// Other is everything else: letters of people, receipts, reports of other kinds.
	Other Kind = "other"
)

// Action is what became of a message at one recipient (RFC 3464 section 2.3.3).
type Action string

// The actions.
const (
	Failed    Action = "failed"
	Delayed   Action = "delayed"
	Delivered Action = "delivered"
	Relayed   Action = "relayed"
	Expanded  Action = "expanded"
)

// Notice is what a message that came back says.
type Notice struct {
	Kind Kind
	// At is when the notice was written; zero where it does not say.
	At time.Time
	// ID is the notice's own Message-ID without its angle brackets.
	ID string
	// Subject is the notice's own.
	Subject string
	// From is the address that the notice was written under, Host the host that reports.
	From, Host string
	// To are the addresses the notice was sent to, that of the envelope first.
	To []string
	// Original is the message the notice is about.
	Original Original
	// Recipients are those the notice names, in its order. A bounce can name nobody.
	Recipients []Recipient
	// Words are the notice's words for people, without the message it returns, at most
	// 4,000 bytes.
	Words string
}

// Original is what a notice shows of the message that it is about.
type Original struct {
	// ID is the Message-ID of the message that is returned, without angle brackets; ""
	// where none is returned. References are those the notice names in its own header.
	ID         string
	References []string
	// To and ReturnPath are as the returned message has them; ReturnPath can also be from a
	// complaint's Original-Mail-From.
	To         []string
	ReturnPath string
	// Known reports that at least some of the message is returned.
	Known bool
}

// Recipient is one recipient a notice speaks of.
type Recipient struct {
	// Address is the recipient the message was first sent to, as far as the notice tells
	// (Original-Recipient, "expanded from"); Final is the one it went to in the end. Both
	// are equal where nothing was forwarded.
	Address, Final string
	Action         Action
	// Permanent reports that the reason lies with the mailbox or its domain and will not
	// pass by itself. A full mailbox is not permanent, nor is a refusal of the sender, the
	// message or the moment, however final.
	Permanent bool
	// Meaning is whom the reason is about, and which.
	Meaning reply.Meaning
	// Status is the enhanced status code of the report, such as "5.1.1" (RFC 3463).
	Status string
	// Words is the reason as the notice gives it, at most 1,000 bytes.
	Words string
	// Host is the host that gave the reason; "" where the notice does not say.
	Host string
}

// The bounds of what is kept of a notice, in bytes.
const (
	maxWords  = 4000
	maxReason = 1000
	// Most is how much of a message is read; what is longer is the returned message.
	Most = 1 << 20
)

// Read returns what a message says. It never fails: what cannot be read is of kind Other,
// or names nobody. What is longer than Most is left out.
func Read(raw []byte) Notice {
	if len(raw) > Most {
		raw = raw[:Most]
	}
	m := open(raw)
	n := Notice{
		ID:       id(m.header.get("Message-ID")),
		From:     first(addresses(m.header.get("From"))),
		Subject:  say.Clip(m.header.get("Subject"), 300),
		To:       m.sentTo(),
		Original: m.original(),
		Words:    say.Clip(strings.TrimSpace(m.words), maxWords),
	}
	if at, err := mail.ParseDate(m.header.get("Date")); err == nil {
		n.At = at
	}
	switch {
	case m.complaint != nil:
		m.readComplaint(&n)
	case m.report != nil:
		m.readReport(&n)
	default:
		m.readWords(&n)
	}
	if n.Host == "" {
		n.Host = n.From[strings.LastIndexByte(n.From, '@')+1:]
	}
	return n
}

// id returns the first message identifier of a field (RFC 5322 section 3.6.4) without its
// brackets.
func id(value string) string {
	if ids := ids(value); len(ids) > 0 {
		return ids[0]
	}
	return ""
}

func ids(value string) (found []string) {
	for {
		_, rest, ok := strings.Cut(value, "<")
		if !ok {
			return found
		}
		one, after, ok := strings.Cut(rest, ">")
		if !ok {
			return found
		}
		if one = strings.Join(strings.Fields(one), ""); one != "" && len(one) <= 300 {
			found = append(found, one)
		}
		value = after
	}
}
