package practice

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"varnet/internal/webhook"
)

// Called is a call that came to a receiver.
type Called struct {
	ID       string // of the event: repeats have the same
	Verified error  // nil: it is signed by the receiver's secret
	Thing    string
	Code     string
	Seq      int64
	Body     []byte
	At       time.Time
	Status   int // what was answered
}

// Receiver is a program that is told of events by webhook: it verifies the calls and remembers
// them.
type Receiver struct {
	URL string

	mu     sync.Mutex
	secret func() string
	answer func(http.ResponseWriter, *http.Request) int
	calls  []Called
}

// mostCalls is how many calls a receiver remembers, the latest.
const mostCalls = 2000

// StartReceiver starts a receiver of the practice internet.
func (i *Internet) StartReceiver(listen string) (*Receiver, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("practice receiver: %w", err)
	}
	r := &Receiver{secret: func() string { return "" }, URL: "http://" + l.Addr().String() + "/varnet"}
	s := &http.Server{Handler: r, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.Serve(l) }()
	i.closers = append(i.closers, func() { _ = s.Close() })
	return r, nil
}

// Knows gives the receiver its secret; KnowsFrom the file in which it will be.
func (r *Receiver) Knows(secret string) { r.know(func() string { return secret }) }

func (r *Receiver) KnowsFrom(file string) {
	r.know(func() string {
		text, _ := os.ReadFile(file) // while there is none, no call is verified
		return strings.TrimSpace(string(text))
	})
}

func (r *Receiver) know(secret func() string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.secret = secret
}

// Answers has the receiver answer by a function, which returns the status that it sent; nil: it
// takes every call.
func (r *Receiver) Answers(by func(http.ResponseWriter, *http.Request) int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.answer = by
}

// Calls returns the calls that came, the first one first.
func (r *Receiver) Calls() []Called {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.calls)
}

// ServeHTTP takes a call; at /calls it shows those that came.
func (r *Receiver) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	if req.Method == http.MethodGet {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(r.Calls())
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, req.Body, 1<<20))
	if err != nil {
		return
	}
	c := Called{ID: req.Header.Get(webhook.ID), Body: body, At: time.Now(), Status: http.StatusNoContent}
	r.mu.Lock()
	secret, answer := r.secret, r.answer
	r.mu.Unlock()
	_, c.Verified = webhook.Verify(secret(), req.Header, body, time.Now())
	var e struct {
		Code, Thing string
		Seq         int64
	}
	_ = json.Unmarshal(body, &e) // what is none has no code
	c.Code, c.Thing, c.Seq = e.Code, e.Thing, e.Seq
	switch {
	case c.Verified != nil:
		c.Status = http.StatusUnauthorized
		http.Error(w, c.Verified.Error(), c.Status)
	case answer != nil:
		c.Status = answer(w, req)
	default:
		w.WriteHeader(c.Status)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.calls = append(r.calls, c); len(r.calls) > mostCalls {
		r.calls = r.calls[len(r.calls)-mostCalls:]
	}
}
