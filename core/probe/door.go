package probe

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"varnet/core/pace"
	"varnet/core/resolve"
	"varnet/core/route"
	"varnet/core/smtp"
)

// maxDoors bounds how many addresses are tried for one session, maxAddresses how many
// of one exchanger: dead addresses of the first must not hide the second.
const (
	maxDoors     = 6
	maxAddresses = 2
)

// connect opens a session at the first exchanger that takes one: the next one
// is tried after a failed connection and after any refusal of the session
// (RFC 5321 section 5.1), a less preferred one only where no better one speaks. The
// failure that comes back is the one that tells most.
func (v *visit) connect(ctx context.Context, queue []*item) (*talk, *smtp.Failure) {
	var worst *smtp.Failure
	number, doors := -1, 0
	for _, x := range v.exchangers {
		if x.Preference > v.best && v.spoke && !v.mute {
			break
		}
		if x.Preference == v.best && v.mute {
			continue
		}
		for _, ip := range x.Addrs[:min(len(x.Addrs), maxAddresses)] {
			if doors++; doors > maxDoors || ctx.Err() != nil && worst != nil {
				break
			}
			t := &talk{visit: v, host: x.Host, backup: x.Preference > v.best}
			t.plan(queue)
			s, seat, f := v.open(ctx, x.Host, ip, t.ahead())
			if f == nil {
				v.spoke = v.spoke || x.Preference == v.best
				t.session, t.seat, t.number = s, seat, len(v.out.Conversations)-1
				return t, nil
			}
			t.drop(t.first)
			v.count(f)
			if f.Trouble == smtp.NoRoute {
				return &talk{visit: v, number: len(v.out.Conversations) - 1}, f
			}
			if x.Preference == v.best {
				v.bestFailure = f
			}
			if worst == nil || telling(f) > telling(worst) {
				worst, number = f, len(v.out.Conversations)-1
			}
		}
	}
	if worst == nil {
		worst = &smtp.Failure{Step: smtp.StepConnect, Trouble: smtp.Unreachable, Err: errors.New("no exchanger has an address")}
	}
	return &talk{visit: v, number: number}, worst
}

// open opens a session with one address. A host that wants encryption and cannot bring
// it about is asked in plain: some take that.
func (v *visit) open(ctx context.Context, host string, ip netip.Addr, first []string) (*smtp.Session, *pace.Seat, *smtp.Failure) {
	var seat *pace.Seat
	if v.prober.Places != nil {
		var err error
		if seat, err = v.prober.Places.Take(ctx, ip, v.way.Route, max(1, v.domains[0].Lanes), v.urgent); err != nil {
			return nil, nil, &smtp.Failure{Step: smtp.StepConnect, Trouble: smtp.OutOfTime, Err: err}
		}
	}
	s, f := v.openOnce(ctx, host, ip, v.prober.tls.wanted(host), first)
	if f != nil && f.Trouble == smtp.NoTLS && f.Step == smtp.StepTLS && v.prober.tls.wanted(host) {
		v.prober.tls.fail(host)
		s, f = v.openOnce(ctx, host, ip, false, first)
	}
	if f != nil {
		if seat.Others() > 0 && v.alive() && notHeard(f) {
			f.Trouble = smtp.Crowded
		}
		seat.Free(0)
	}
	return s, seat, f
}

// mostAhead is how many questions may go out with MAIL FROM.
const mostAhead = 5

// ahead are the mailboxes that are asked about while the session begins; none where it
// is not known before whether the host takes them.
func (t *talk) ahead() []string {
	if t.utf8 {
		return nil
	}
	return mailboxes(t.first[:min(len(t.first), mostAhead)])
}

// alive reports whether the operator has answered lately, so that silence at one session
// beside others is not its own.
func (v *visit) alive() bool { return v.answers > 0 || v.domains[0].Proven > 0 || v.domains[0].Takes }

// notHeard reports a connection that came to nothing within its time, or that nobody
// greeted: while others of ours are open, that is our doing.
func notHeard(f *smtp.Failure) bool {
	var timeout net.Error
	return f.Step == smtp.StepConnect && f.Trouble == smtp.Unreachable && errors.As(f.Err, &timeout) && timeout.Timeout() ||
		f.Step == smtp.StepGreeting && f.Trouble == smtp.Silent
}

func (v *visit) openOnce(ctx context.Context, host string, ip netip.Addr, encrypt bool, first []string) (*smtp.Session, *smtp.Failure) {
	addr := net.JoinHostPort(ip.String(), strconv.Itoa(v.prober.Port))
	c := Conversation{Exchanger: host, Addr: addr, Identity: v.way.Identity, Route: v.way.Name, At: time.Now()}
	l := v.limits
	l.Encrypt = encrypt
	s, f := v.dial(ctx, addr, l, first)
	if s != nil {
		c.Lines, c.Encrypted = s.Lines(), s.Encrypted()
	}
	if f != nil {
		c.Ended = f.Error()
	}
	v.out.Conversations = append(v.out.Conversations, c)
	return s, f
}

func (v *visit) dial(ctx context.Context, addr string, l smtp.Limits, first []string) (*smtp.Session, *smtp.Failure) {
	dialCtx, cancel := context.WithTimeout(ctx, l.Waits[smtp.StepConnect])
	defer cancel()
	conn, err := v.way.Dialer.DialContext(dialCtx, "tcp", addr)
	if err != nil {
		trouble := smtp.Unreachable
		var atRoute *route.Failure
		switch {
		case ctx.Err() != nil:
			trouble = smtp.OutOfTime
		case errors.As(err, &atRoute):
			trouble, err = smtp.NoRoute, atRoute
		}
		return nil, &smtp.Failure{Step: smtp.StepConnect, Trouble: trouble, Err: err}
	}
	s, err := smtp.Open(ctx, conn, v.way.Identity, l, first...)
	var f *smtp.Failure
	if errors.As(err, &f) {
		return s, f
	}
	return s, nil
}

// encryption remembers which exchangers want their sessions encrypted, and with which
// that did not come about. It forgets all when it holds too many.
type encryption struct {
	mu     sync.Mutex
	failed map[string]bool // by exchanger; false: it is wanted
}

const mostRemembered = 20_000

// wanted reports whether sessions with an exchanger begin with STARTTLS.
func (e *encryption) wanted(host string) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	failed, known := e.failed[host]
	return known && !failed
}

// want remembers that an exchanger wants encryption; it is false where that is known.
func (e *encryption) want(host string) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, known := e.failed[host]; known {
		return false
	}
	e.put(host, false)
	return true
}

// fail remembers that no encryption came about.
func (e *encryption) fail(host string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.put(host, true)
}

func (e *encryption) put(host string, failed bool) {
	if e.failed == nil || len(e.failed) >= mostRemembered {
		e.failed = map[string]bool{}
	}
	e.failed[host] = failed
}

// rounds is through how many rounds the mailboxes have gone, the most.
func rounds(domains []Domain) (most int) {
	for _, d := range domains {
		for _, q := range d.Questions {
			most = max(most, q.Rounds)
		}
	}
	return most
}

// best returns the preference of the best exchanger that has an address.
func best(exchangers []resolve.Exchanger) uint16 {
	for _, x := range exchangers { // in their order
		if len(x.Addrs) > 0 {
			return x.Preference
		}
	}
	return 0
}
