package bounce

import (
	"context"
	"maps"
	"slices"
	"strings"

	"varnet/core/bounce"
	"varnet/internal/store"
)

// letters are the letters that messages may be about. They are what bounce.Whom asks.
type letters struct {
	byAddress map[string][]store.Mailed // by canonical form, the newest mailing last
	byTag     map[string]store.Mailed
	byMessage map[string][]store.Mailed
	byOwn     map[string]store.Mailed // by return addresses of ours, in lower case
}

// lettersOf looks up the letters that some messages can be about.
func (d *Desk) lettersOf(ctx context.Context, workspace int64, some []message) (*letters, error) {
	own := map[string]letterKey{}
	addresses, tags, ids := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, m := range some {
		for _, r := range m.Recipients {
			addresses[canonical(r.Address)], addresses[canonical(r.Final)] = true, true
		}
		for _, a := range append(m.Original.To, m.From) {
			addresses[canonical(a)] = true
		}
		for _, a := range append(m.To, m.Original.ReturnPath) {
			if key, ok := d.Tags.letter(a); ok {
				own[canonical(a)] = key
			} else {
				tags[tagOf(a)] = true
			}
		}
		for _, id := range append(m.Original.References, m.Original.ID) {
			ids[id] = true
		}
	}
	found, err := d.Store.MailedTo(ctx, workspace, keys(addresses), keys(tags), keys(ids))
	if err != nil {
		return nil, err
	}
	l := &letters{map[string][]store.Mailed{}, map[string]store.Mailed{}, map[string][]store.Mailed{}, map[string]store.Mailed{}}
	for _, m := range found {
		l.byAddress[m.Canonical] = append(l.byAddress[m.Canonical], m)
		if m.Tag != nil {
			l.byTag[*m.Tag] = m
		}
		if m.MessageID != nil {
			l.byMessage[*m.MessageID] = append(l.byMessage[*m.MessageID], m)
		}
	}
	return l, d.ownLetters(ctx, workspace, l, own)
}

// mailings are those that the letters are of.
func (l *letters) mailings() []int64 {
	ids := map[int64]bool{}
	for _, of := range l.byAddress {
		for _, m := range of {
			ids[m.MailingID] = true
		}
	}
	for _, m := range l.byOwn {
		ids[m.MailingID] = true
	}
	return slices.Collect(maps.Keys(ids))
}

// ownLetters looks up the letters whose return addresses of ours messages came to.
func (d *Desk) ownLetters(ctx context.Context, workspace int64, l *letters, own map[string]letterKey) error {
	if len(own) == 0 {
		return nil
	}
	var mailings []int64
	var numbers []int
	for _, k := range own {
		mailings, numbers = append(mailings, k.mailing), append(numbers, k.number)
	}
	found, err := d.Store.MailedByNumber(ctx, workspace, mailings, numbers)
	for _, m := range found {
		for a, k := range own {
			if k == (letterKey{m.MailingID, m.Number}) {
				l.byOwn[a] = m
			}
		}
	}
	return err
}

// tagged returns the letter whose return address this is.
func (l *letters) tagged(address string) (m store.Mailed, ok bool) {
	if m, ok = l.byOwn[canonical(address)]; !ok {
		m, ok = l.byTag[tagOf(address)]
	}
	return m, ok
}

func keys(set map[string]bool) []string {
	list := make([]string, 0, len(set))
	for k := range set {
		if k != "" {
			list = append(list, k)
		}
	}
	return list
}

// canonical is the form of an address that decides identity, without the mending that
// cells of a list get.
func canonical(address string) string { return strings.ToLower(strings.TrimSpace(address)) }

// tagOf returns the tag of a return address: what stands in its local part behind the first
// plus sign, up to an equals sign.
func tagOf(address string) string {
	local := address[:max(strings.LastIndexByte(address, '@'), 0)]
	_, tag, ok := strings.Cut(local, "+")
	if !ok {
		return ""
	}
	tag, _, _ = strings.Cut(tag, "=")
	return tag
}

// Has reports whether a letter went to an address.
func (l *letters) Has(address string) (string, bool) {
	list := l.byAddress[canonical(address)]
	if len(list) == 0 {
		return "", false
	}
	return list[0].Mailbox, true
}

// Message returns to whom a message went.
func (l *letters) Message(id string) (to []string) {
	for _, m := range l.byMessage[id] {
		to = append(to, m.Mailbox)
	}
	return to
}

// Knows reports whether the Message-IDs of all letters to an address are known.
func (l *letters) Knows(address string) bool {
	for _, m := range l.byAddress[canonical(address)] {
		if m.MessageID == nil {
			return false
		}
	}
	return true
}

// Returns returns whose letter has a return address.
func (l *letters) Returns(address string) (string, bool) {
	m, ok := l.tagged(address)
	return m.Mailbox, ok
}

// letter returns the letter that a message credits: the one with its tag, with its
// Message-ID, or else the last one that was sent to the address before the message came.
func (l *letters) letter(c bounce.Credit, n bounce.Notice) (letter store.Mailed, ok bool) {
	own := l.byAddress[canonical(c.Address)]
	for _, a := range append(n.To, n.Original.ReturnPath) {
		if m, is := l.tagged(a); is && m.Mailbox == c.Address {
			return m, true
		}
	}
	for _, id := range append([]string{n.Original.ID}, n.Original.References...) {
		for _, m := range l.byMessage[id] {
			if m.Mailbox == c.Address {
				return m, true
			}
		}
	}
	for _, m := range own {
		if !ok || m.MailingID > letter.MailingID {
			letter, ok = m, true
		}
	}
	return letter, ok
}
