package smtp

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"varnet/core/say"
)

// Bounds of what a host may send.
const (
	maxLine       = 4096 // bytes; RFC 5321 section 4.5.3.1.5 says 512
	maxReplyLines = 200
	maxReply      = 16384 // bytes, all its lines together; a visit holds the replies about each of its mailboxes
	mostNoted     = 1000  // bytes of a line are kept
)

// command sends one line and reads its reply, noting both.
func (s *Session) command(step Step, line string) (Reply, *Failure) {
	if f := s.send(step, false, line); f != nil {
		return Reply{}, f
	}
	s.note(false, line)
	return s.reply(step, true)
}

// send writes lines in one go. No line may hold a line end: what comes from a
// list was held against the grammar, and this is the last door. A reply that lies
// there and is not due shows that the session is out of step.
func (s *Session) send(step Step, repliesDue bool, lines ...string) *Failure {
	for _, l := range lines {
		if strings.ContainsAny(l, "\r\n\x00") {
			return &Failure{Step: step, Trouble: Garbled, Err: errors.New("a command with a line end in it was not sent")}
		}
	}
	if !repliesDue && s.in.Buffered() > 0 {
		return outOfStep(step)
	}
	s.deadline(step)
	if _, err := io.WriteString(s.conn, strings.Join(lines, "\r\n")+"\r\n"); err != nil {
		return s.troubled(step, err)
	}
	s.left = step == StepQuit
	return nil
}

// outOfStep is the failure of a session in which a reply too many has come:
// from then on no reply belongs to the command before it.
func outOfStep(step Step) *Failure {
	return &Failure{Step: step, Trouble: OutOfStep, Err: errors.New("the host sent more replies than it was asked for")}
}

func (s *Session) expect(step Step) *Failure {
	r, f := s.reply(step, true)
	if f != nil {
		return f
	}
	return refusal(step, r)
}

// reply reads one reply. The step's wait begins when a line is not there yet, and covers the rest of the reply: a host
// that drips line after line does not hold us longer.
func (s *Session) reply(step Step, noted bool) (Reply, *Failure) {
	var until time.Time
	var r Reply
	for lines, size := 0, 0; lines < maxReplyLines && size <= maxReply; lines++ {
		if !s.hasLine() { // setting a deadline takes longer than reading what is there
			if until.IsZero() {
				until = s.until(step)
			}
			_ = s.conn.SetDeadline(until)
		}
		sent, err := readLine(s.in)
		if r.Code == 0 && err == nil && !noted && len(sent) > 0 && string(sent) == s.same.line {
			return s.same.reply, nil
		}
		size += len(sent)
		line := Decode(sent)
		if err != nil {
			if noted && line != "" {
				s.note(true, line)
			}
			return r, s.troubled(step, err)
		}
		if noted {
			s.note(true, line)
		}
		code, more, text, ok := parseLine(line)
		if !ok || r.Code != 0 && code != r.Code {
			return r, &Failure{Step: step, Trouble: Garbled, Err: fmt.Errorf("%q is not a reply line", say.Shorten(line, mostNoted))}
		}
		r.add(code, text)
		if !more {
			if len(r.Lines) == 1 {
				s.same.line, s.same.reply = line, r
			}
			return r, nil
		}
	}
	return r, &Failure{Step: step, Trouble: Garbled, Err: fmt.Errorf("a reply of more than %d lines or %d bytes", maxReplyLines, maxReply)}
}

var errLongLine = errors.New("a line longer than 4,096 bytes")

// readLine reads a line, which is good until the next is read.
func readLine(in *bufio.Reader) ([]byte, error) {
	b, err := in.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		err = errLongLine
	}
	return bytes.TrimRight(b, "\r\n"), err
}

// troubled tells what became of the connection.
func (s *Session) troubled(step Step, err error) *Failure {
	var timeout net.Error
	switch {
	case s.ctx.Err() != nil, s.outOfTime():
		return &Failure{Step: step, Trouble: OutOfTime, Err: errors.New("our time for the session was up")}
	case errors.Is(err, errLongLine):
		return &Failure{Step: step, Trouble: Garbled, Err: err}
	case errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return &Failure{Step: step, Trouble: Silent, Err: errors.New("no reply in time")}
	}
	return &Failure{Step: step, Trouble: Dropped, Err: errors.New("the host closed the connection")}
}

// hasLine reports whether a whole line is there to be read.
func (s *Session) hasLine() bool {
	there, _ := s.in.Peek(s.in.Buffered())
	return bytes.IndexByte(there, '\n') >= 0
}

func (s *Session) deadline(step Step) { _ = s.conn.SetDeadline(s.until(step)) }

// until is when the wait for a step that begins now is over.
func (s *Session) until(step Step) time.Time {
	t := time.Now().Add(s.limits.Waits[step])
	if end, ok := s.ctx.Deadline(); ok && end.Before(t) {
		t = end
	}
	return t
}

// outOfTime reports whether the time-out that just struck was the session's end
// and not the host's silence.
func (s *Session) outOfTime() bool {
	end, ok := s.ctx.Deadline()
	return ok && !time.Now().Before(end)
}

func (s *Session) note(host bool, text string) {
	at := float64(time.Since(s.start).Microseconds()) / 1000
	s.lines = append(s.lines, Line{AtMS: at, Host: host, Text: say.Shorten(text, mostNoted)})
}
