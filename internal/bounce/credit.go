package bounce

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"varnet/core/activity"
	"varnet/core/bounce"
	"varnet/core/event"
	"varnet/core/say"
	"varnet/internal/store"
)

// letterKey names a letter.
type letterKey struct {
	mailing int64
	number  int
}

// crediting is messages that are credited in one transaction.
type crediting struct {
	*Desk
	s         *store.Store
	workspace int64
	way       Way
	letters   *letters
	imported  Imported
	changed   map[letterKey]store.Mailed
	outcomes  map[string]store.KnownOutcome // by canonical form
	before    Imported                      // what the import brought so far
	heard     map[int64]bool                // mailings about whose letters a message came
}

// credit keeps what messages say of the letters that they are about, in one transaction.
func (d *Desk) credit(ctx context.Context, workspace int64, way Way, some []message, t *Imported) error {
	letters, err := d.lettersOf(ctx, workspace, some)
	if err != nil {
		return err
	}
	if err := knowVerdicts(ctx, d.Store, d.Now()); err != nil {
		return err
	}
	var now Imported
	err = d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.LockMailings(ctx, letters.mailings()); err != nil {
			return err
		}
		c := crediting{d, s, workspace, way, letters, Imported{}, map[letterKey]store.Mailed{}, map[string]store.KnownOutcome{}, *t, map[int64]bool{}}
		for _, m := range some {
			if err := c.one(ctx, m); err != nil {
				return err
			}
		}
		now = c.imported
		if err := s.BeginWatches(ctx, slices.Collect(maps.Keys(c.heard)), d.Now()); err != nil {
			return err
		}
		if err := d.keep(ctx, s, workspace, c.changed, c.outcomes); err != nil {
			return err
		}
		return d.tellMany(ctx, s, tx, c.changed)
	})
	if err == nil {
		t.add(now)
	}
	return err
}

// one records one message, and what it says of letters.
func (c *crediting) one(ctx context.Context, m message) error {
	c.imported.Messages++
	at := m.At
	if at.IsZero() || at.After(c.Now()) {
		at = c.Now()
	}
	forged := c.Tags.forged(m.To)
	if forged && c.before.Forged+c.imported.Forged >= keptForged {
		c.imported.Forged++
		return nil
	}
	var credits []bounce.Credit
	if !forged {
		credits = bounce.Whom(m.Notice, c.letters)
	}
	if tooMany(credits, m.Notice, c.letters) {
		c.imported.Known++
		return nil
	}
	r := store.Returned{Way: string(c.way), Digest: m.digest, Kind: string(m.Kind), At: &at, Sender: m.From, Host: m.Host, Subject: m.Subject, Words: m.Words, Credited: len(credits)}
	switch {
	case forged:
		r.Says = "The return address that it was sent to carries a wrong tag: it is not a bounce of a letter of ours."
	case len(credits) == 0:
		r.Says = nobody(m.Notice)
	}
	switch err := c.s.AddReturned(ctx, c.workspace, &r); {
	case errors.Is(err, store.ErrNotFound):
		c.imported.Known++
		return nil
	case err != nil:
		return err
	case forged:
		c.imported.Forged++
		return nil
	}
	c.imported.count(m.Notice, credits)
	for _, credit := range credits {
		if err := c.letter(ctx, m, credit, r); err != nil {
			return err
		}
	}
	return nil
}

// letter keeps what a message says of one letter, as far as it outweighs what was known.
func (c *crediting) letter(ctx context.Context, m message, credit bounce.Credit, r store.Returned) error {
	letter, found := c.letters.letter(credit, m.Notice)
	if !found {
		return nil
	}
	c.heard[letter.MailingID] = true
	if err := c.s.CountHeard(ctx, letter.MailingID, letter.Number); err != nil {
		return err
	}
	o, ok := bounce.Of(m.Notice, credit.Recipient)
	if !ok {
		return nil
	}
	key := letterKey{letter.MailingID, letter.Number}
	if now, was := c.changed[key]; was {
		letter = now
	}
	known := bounce.Known{Outcome: o, Permanent: credit.Recipient.Permanent, At: *r.At}
	if letter.Outcome != bounce.NoBounce && !known.Outweighs(knownOf(letter)) {
		return nil
	}
	c.changed[key] = with(letter, credit.Recipient, known, r.ID, m.Host)
	if before, was := c.outcomes[letter.Canonical]; !was || known.Outweighs(before.Known) {
		c.outcomes[letter.Canonical] = store.KnownOutcome{Known: known, Words: masked(credit.Recipient, letter), Host: hostOf(credit.Recipient, m.Host)}
	}
	return nil
}

// keptForged is how many forged messages of one import are kept to be looked at; the others are
// counted.
const keptForged = 100

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
	l.About, l.Cause, l.Words, l.Host = string(r.Meaning.About), string(r.Meaning.Cause), say.Outside(r.Words), hostOf(r, reporter)
	if l.Final = ""; !strings.EqualFold(r.Final, l.Mailbox) {
		l.Final = say.Outside(r.Final)
	}
	return l
}

func hostOf(r bounce.Recipient, reporter string) string {
	if r.Host != "" {
		return say.Outside(r.Host)
	}
	return say.Outside(reporter)
}

// masked returns the words of the host without the address.
func masked(r bounce.Recipient, l store.Mailed) string {
	words := say.Outside(r.Words)
	for _, a := range []string{r.Final, r.Address, l.Mailbox, l.Canonical} {
		if a != "" {
			words = replaceFold(words, a, "[address]")
		}
	}
	return words
}

func replaceFold(text, old, now string) string {
	lower, low := strings.ToLower(text), strings.ToLower(old)
	if len(lower) != len(text) || len(low) != len(old) { // some letters have more bytes in one case than in the other
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

// count counts what a message says.
func (t *Imported) count(n bounce.Notice, credits []bounce.Credit) {
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
	if len(changed) == 0 {
		return nil
	}
	if err := s.SetMailed(ctx, slices.Collect(maps.Values(changed))); err != nil {
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

// Know keeps what became known of addresses otherwise than by a message that came back, and
// decides anew on them; also is done in the same transaction.
func (d *Desk) Know(ctx context.Context, workspace int64, outcomes map[string]store.KnownOutcome, also func(ctx context.Context, s *store.Store) error) error {
	if err := knowVerdicts(ctx, d.Store, d.Now()); err != nil {
		return err
	}
	return d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := also(ctx, s); err != nil {
			return err
		}
		return d.remember(ctx, s, workspace, outcomes)
	})
}

// remember keeps what became known of addresses, and decides anew on them.
func (d *Desk) remember(ctx context.Context, s *store.Store, workspace int64, outcomes map[string]store.KnownOutcome) error {
	if len(outcomes) == 0 {
		return nil
	}
	if err := s.RememberOutcomes(ctx, workspace, outcomes); err != nil {
		return err
	}
	var gone []string
	alive := map[string]activity.Seen{} // who complains or asks for no more messages has read one
	for canonical, o := range outcomes {
		switch {
		case o.Outcome == bounce.Bounced && o.Permanent:
			gone = append(gone, canonical)
		case o.Outcome == bounce.Complained || o.Outcome == bounce.Unsubscribed:
			alive[canonical] = activity.Seen{At: o.At, Kind: string(o.Outcome), From: "outcomes of mailings"}
		}
	}
	if err := s.Correct(ctx, workspace, gone); err != nil {
		return err
	}
	if _, err := s.RememberActivity(ctx, workspace, alive); err != nil {
		return err
	}
	return d.decideAnew(ctx, s, workspace, outcomes)
}
