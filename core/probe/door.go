package probe

import (
	"context"
	"errors"
	"net"
	"strconv"
	"time"

	"varnet/core/route"
	"varnet/core/smtp"
)

// maxDoors bounds how many addresses of exchangers are tried for one session.
const maxDoors = 4

// connect opens a session at the first exchanger that takes one: the next one
// is tried after a failed connection and after any refusal of the session
// (RFC 5321 section 5.1). The failure that comes back is the one that tells
// most. The first of the queue are asked about while the session begins.
func (v *visit) connect(ctx context.Context, queue []*item) (*smtp.Session, int, *smtp.Failure) {
	var worst *smtp.Failure
	number, doors := -1, 0
	first := mailboxes(queue[:min(len(queue), max(v.limits.Questions-1, 0))])
	for _, x := range v.exchangers {
		for _, ip := range x.Addrs {
			if doors++; doors > maxDoors || ctx.Err() != nil && worst != nil {
				break
			}
			s, f := v.open(ctx, x.Host, net.JoinHostPort(ip.String(), strconv.Itoa(v.prober.Port)), first)
			if f == nil {
				return s, len(v.out.Conversations) - 1, nil
			}
			v.count(f)
			if f.Trouble == smtp.NoRoute {
				return nil, len(v.out.Conversations) - 1, f
			}
			if worst == nil || telling(f) > telling(worst) {
				worst, number = f, len(v.out.Conversations)-1
			}
		}
	}
	if worst == nil {
		worst = &smtp.Failure{Step: smtp.StepConnect, Trouble: smtp.Unreachable, Err: errors.New("no exchanger has an address")}
	}
	return nil, number, worst
}

func (v *visit) open(ctx context.Context, host, addr string, first []string) (*smtp.Session, *smtp.Failure) {
	c := Conversation{Exchanger: host, Addr: addr, Identity: v.way.Identity, Route: v.way.Name, At: time.Now()}
	s, f := v.dial(ctx, addr, first)
	if s != nil {
		c.Lines, c.Encrypted = s.Lines(), s.Encrypted()
	}
	if f != nil {
		c.Ended = f.Error()
	}
	v.out.Conversations = append(v.out.Conversations, c)
	return s, f
}

func (v *visit) dial(ctx context.Context, addr string, first []string) (*smtp.Session, *smtp.Failure) {
	dialCtx, cancel := context.WithTimeout(ctx, v.limits.Waits[smtp.StepConnect])
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
	s, err := smtp.Open(ctx, conn, v.way.Identity, v.limits, first...)
	var f *smtp.Failure
	if errors.As(err, &f) {
		return s, f
	}
	return s, nil
}

// close ends the session and completes its record.
func (v *visit) close(s *smtp.Session, number int) {
	s.Close()
	c := &v.out.Conversations[number]
	c.Lines, c.Encrypted = s.Lines(), s.Encrypted()
	if f := s.Failure(); f != nil {
		c.Ended = f.Error()
	}
}
