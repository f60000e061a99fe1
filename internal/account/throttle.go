package account

import (
	"context"
	"fmt"
	"net/netip"
	"time"
)

// TooMany tells that something was tried too often, and until when it rests.
type TooMany struct{ Until time.Time }

func (t *TooMany) Error() string {
	return fmt.Sprintf("Too many attempts. Try again in %s.", waitWords(time.Until(t.Until)))
}

// waitWords says a wait: 12 seconds, 3 minutes.
func waitWords(d time.Duration) string {
	if s := int(d/time.Second) + 1; s < 90 {
		return fmt.Sprintf("%d seconds", s)
	}
	return fmt.Sprintf("%d minutes", int(d/time.Minute)+1)
}

// throttle is how often something may be tried: so often freely, then after a first wait,
// which doubles with each further try up to the longest. A rest as long as that forgets all.
type throttle struct {
	free                 int
	first, longest, rest time.Duration
}

// The throttles. Wrong passwords and codes count by account, whether there is one or not, and
// by network, behind which many people may be.
var (
	ofAccount = throttle{5, time.Second, 15 * time.Minute, 6 * time.Hour}
	ofNetwork = throttle{50, time.Second, 15 * time.Minute, time.Hour}
	ofLetters = throttle{5, time.Minute, time.Hour, time.Hour}
	ofCallers = throttle{30, 10 * time.Second, 15 * time.Minute, time.Hour}
)

// wait is how long the next try waits after n.
func (t throttle) wait(n int) time.Duration {
	if n < t.free {
		return 0
	}
	d := t.first
	for range min(n-t.free, 30) {
		d = min(2*d, t.longest)
	}
	return d
}

// subject is what is tried, and how often that may be.
type subject struct {
	name      string // never kept, but as a keyed hash
	says      string // for the audit trail
	canonical string // the address that it is about; "" for none
	from      netip.Addr
	throttle
}

// accountSubject and networkSubject are tried by wrong passwords and codes, lettersTo and
// lettersFor by letters that anybody may have sent.
func accountSubject(what, canonical string) subject {
	return subject{name: "account " + what + " " + canonical, says: "the " + what + " of an account", canonical: canonical, throttle: ofAccount}
}
func networkSubject(from netip.Addr) subject {
	return subject{name: "network " + network(from), says: "a network", from: from, throttle: ofNetwork}
}
func lettersTo(canonical string) subject {
	return subject{name: "letters to " + canonical, says: "letters to an address", canonical: canonical, throttle: ofLetters}
}
func lettersFor(from netip.Addr) subject {
	return subject{name: "letters for " + network(from), says: "letters that a network asks for", from: from, throttle: ofCallers}
}
func (a *Accounts) hashOf(s subject) []byte { return a.Secrets.Fingerprint(s.name, "attempts") }

// network is what counts as one caller: an IPv4 address, a /64 of IPv6.
func network(from netip.Addr) string {
	if from.Is6() {
		p, _ := from.Prefix(64)
		return p.String()
	}
	return from.String()
}

// allowed returns TooMany while one of the subjects rests.
func (a *Accounts) allowed(ctx context.Context, subjects ...subject) error {
	hashes := make([][]byte, len(subjects))
	for i, s := range subjects {
		hashes[i] = a.hashOf(s)
	}
	until, err := a.Store.AttemptsBlocked(ctx, hashes)
	if err == nil && !until.IsZero() {
		err = &TooMany{until}
	}
	return err
}

// count counts a try of each subject, which lets it rest where there were too many.
func (a *Accounts) count(ctx context.Context, subjects ...subject) error {
	for _, s := range subjects {
		n, err := a.Store.CountAttempt(ctx, a.hashOf(s), s.rest)
		if err != nil {
			return err
		}
		if wait := s.wait(n); wait > 0 {
			if err := a.rest(ctx, s, n, wait); err != nil {
				return err
			}
		}
	}
	return nil
}

// rest lets a subject rest, and tells the audit trail.
func (a *Accounts) rest(ctx context.Context, s subject, tries int, wait time.Duration) error {
	if err := a.Store.BlockAttempts(ctx, a.hashOf(s), time.Now().Add(wait)); err != nil {
		return err
	}
	e := Entry{Action: "throttle", Result: DoneResult, Detail: fmt.Sprintf("%s rests for %s after %d tries", s.says, waitWords(wait), tries)}
	if s.canonical != "" {
		e.Address = a.Fingerprint(s.canonical)
	}
	if s.from.IsValid() {
		e.From = s.from.String()
	}
	return Audit(ctx, a.Store, e)
}

// forgive forgets the tries of a subject: whoever tried was who they said.
func (a *Accounts) forgive(ctx context.Context, s subject) error {
	return a.Store.ForgetAttempts(ctx, a.hashOf(s))
}
