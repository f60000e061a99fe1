package bounce

import (
	"slices"
	"strings"
)

// Sent is what is known of the messages that were sent.
type Sent interface {
	// Has reports whether a message went to an address, and returns the address as it was
	// mailed.
	Has(address string) (mailed string, ok bool)
	// Message returns to whom the message with a Message-ID went, nil where it is none
	// of ours.
	Message(id string) []string
	// Knows reports whether the Message-IDs of all messages to an address are known, so that
	// one with another Message-ID is none of ours.
	Knows(address string) bool
	// Returns returns to whom the message went whose return address this is, where the
	// address carries a tag of ours that is right.
	Returns(address string) (mailed string, ok bool)
}

// How is by what a notice was known to be about an address.
type How string

// The ways, from the surest.
const (
	ByTag     How = "tag"     // a return address of ours, with its tag
	ByMessage How = "message" // the Message-ID of a message of ours
	ByAddress How = "address" // an address that a message of ours went to
)

// Credit is one address that a notice is about.
type Credit struct {
	// Address is the address as it was mailed.
	Address string
	// Recipient is what the notice says of it; its Final differs from Address where the
	// message was forwarded. It is empty where the notice says nothing of its own, as an
	// auto-reply does.
	Recipient Recipient
	How       How
}

// Whom returns the addresses of a mailing that a notice is about. It returns none where
// the notice is about another message than one of ours, or does not tell whom it is about:
// nothing is guessed.
func Whom(n Notice, sent Sent) []Credit {
	if n.Kind == Other {
		return nil
	}
	w := whom{sent: sent, original: n.Original}
	w.look(n)
	var credits []Credit
	add := func(c Credit) {
		if c.Address != "" && !slices.ContainsFunc(credits, func(d Credit) bool { return strings.EqualFold(c.Address, d.Address) }) {
			credits = append(credits, c)
		}
	}
	for _, r := range n.Recipients {
		add(w.credit(r, len(n.Recipients)))
	}
	if len(n.Recipients) == 0 && n.Kind != Bounce && n.Kind != Delay {
		add(w.one(Recipient{}))
	}
	return credits
}

// whom is what is known of the message that a notice is about.
type whom struct {
	sent     Sent
	original Original
	tagged   string   // to whom the tagged return address belongs
	message  []string // to whom the message went
	writer   string   // who wrote the notice, where a message went to it
}

func (w *whom) look(n Notice) {
	for _, a := range append(slices.Clone(n.To), n.Original.ReturnPath) {
		if mailed, ok := w.sent.Returns(a); ok && w.tagged == "" {
			w.tagged = mailed
		}
	}
	if n.Original.ID != "" {
		w.message = w.sent.Message(n.Original.ID)
		return
	}
	for _, id := range n.Original.References {
		if w.message = w.sent.Message(id); w.message != nil {
			return
		}
	}
	if len(n.Original.References) == 0 || n.Kind == AutoReply || n.Kind == Challenge {
		if mailed, ok := w.sent.Has(n.From); ok {
			w.writer = mailed
		}
	}
}

// has returns an address as it was mailed, unless the message that came back is known to be
// another than the one that went to it.
func (w *whom) has(address string) (mailed string, ok bool) {
	mailed, ok = w.sent.Has(address)
	foreign := w.original.ID != "" && w.message == nil && w.tagged == "" && ok && w.sent.Knows(mailed)
	return mailed, ok && !foreign
}

// credit finds the address that what a notice says of a recipient is about.
func (w *whom) credit(r Recipient, of int) Credit {
	for _, a := range []string{r.Address, r.Final} {
		mailed, ok := w.has(a)
		switch {
		case !ok || a == "":
		case w.tagged == "":
			how := ByAddress
			if w.message != nil {
				how = ByMessage
			}
			return Credit{mailed, r, how}
		case strings.EqualFold(mailed, w.tagged):
			return Credit{mailed, r, ByTag}
		}
	}
	if of > 1 && w.tagged == "" {
		return Credit{}
	}
	return w.one(r)
}

// one returns the only address that the message itself tells of: a forwarded one, or one
// that the notice does not name.
func (w *whom) one(r Recipient) Credit {
	c := w.only(r)
	if c.Recipient.Final == "" && r.Action != "" {
		c.Recipient.Address, c.Recipient.Final = c.Address, c.Address
	}
	return c
}

func (w *whom) only(r Recipient) Credit {
	if w.tagged != "" {
		return Credit{w.tagged, r, ByTag}
	}
	if len(w.message) == 1 {
		return Credit{w.message[0], r, ByMessage}
	}
	var to []string
	for _, a := range w.original.To {
		if mailed, ok := w.has(a); ok && !slices.Contains(to, mailed) {
			to = append(to, mailed)
		}
	}
	if len(to) == 1 {
		return Credit{to[0], r, ByAddress}
	}
	return Credit{w.writer, r, ByAddress}
}
