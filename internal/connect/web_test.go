package connect_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"varnet/internal/connect"
)

// answer is what a place answers once.
type answer struct {
	status int
	header http.Header
	body   string
}

// told is a place that gives answers in their order, the last of them for good.
type told struct {
	mu      sync.Mutex
	answers []answer
	asked   []string // each request, with what signed it and its body
}

func (p *told) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b, _ := io.ReadAll(r.Body)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asked = append(p.asked, strings.TrimSpace(r.Method+" "+r.Header.Get("Authorization")+" "+string(b)))
	a := p.answers[0]
	if len(p.answers) > 1 {
		p.answers = p.answers[1:]
	}
	for name := range a.header {
		w.Header().Set(name, a.header.Get(name))
	}
	w.WriteHeader(a.status)
	_, _ = io.WriteString(w, a.body)
}

func place(t *testing.T, answers ...answer) (*told, *connect.Web, string) {
	t.Helper()
	p := &told{answers: answers}
	s := httptest.NewServer(p)
	t.Cleanup(s.Close)
	w := connect.Env{AllowPrivate: true}.NewWeb("", 0)
	t.Cleanup(w.HTTP.CloseIdleConnections)
	return p, w, s.URL
}

// at0 asks to be asked again at once.
var at0 = http.Header{"Retry-After": {"0"}}

// TestWhatPasses: what may be otherwise in a moment is asked again, with the same words; what will not is not.
func TestWhatPasses(t *testing.T) {
	t.Parallel()
	ok := answer{200, nil, "two contacts"}
	for name, x := range map[string]struct {
		answers       []answer
		times         int
		status        int // of the answer; 0: an error
		why           string
		broken, later bool
	}{
		"well":                    {[]answer{ok}, 1, 200, "", false, false},
		"too soon":                {[]answer{{429, at0, ""}, {429, at0, ""}, ok}, 3, 200, "", false, false},
		"out of order":            {[]answer{{503, at0, ""}, {500, at0, ""}, {502, at0, ""}, ok}, 4, 200, "", false, false},
		"by a date gone by":       {[]answer{{503, http.Header{"Retry-After": {"Mon, 30 Nov 2020 08:00:00 GMT"}}, ""}, ok}, 2, 200, "", false, false},
		"out of order for good":   {[]answer{{503, at0, "\x1b[31mbusy\r\n"}}, 7, 0, "answered 503 Service Unavailable: [31mbusy, 7 times in a row", false, true},
		"what it never has":       {[]answer{{501, at0, ""}}, 1, 0, "answered 501 Not Implemented", false, false},
		"not found":               {[]answer{{404, nil, "no such group"}}, 1, 0, "answered 404 Not Found: no such group.", false, false},
		"a page of the wrong one": {[]answer{{404, nil, "<html><body>"}}, 1, 0, "answered 404 Not Found.", false, false},
		"refused":                 {[]answer{{401, nil, "expired"}}, 1, 0, "refused the sign-in (401 Unauthorized: expired). Check the key", true, false},
		"forbidden":               {[]answer{{403, nil, ""}}, 1, 0, "refused the sign-in (403 Forbidden). Check the key", true, false},
		"sent elsewhere":          {[]answer{{302, http.Header{"Location": {"http://127.0.0.1:1/"}}, ""}}, 1, 0, "sends us elsewhere (302 Found), where nothing is followed", false, false},
		"wanted":                  {[]answer{{409, nil, ""}}, 1, 409, "", false, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, w, address := place(t, x.answers...)
			a, err := w.Do(t.Context(), "POST", address, nil, []byte("the body"), 200, 409)
			if len(p.asked) != x.times {
				t.Errorf("asked %d times: %q", len(p.asked), p.asked)
			}
			for _, asked := range p.asked {
				if asked != "POST  the body" {
					t.Errorf("%q is asked", asked)
				}
			}
			if x.status > 0 && (err != nil || a.Status != x.status) {
				t.Errorf("%d, %v", a.Status, err)
			}
			if x.status == 0 && (err == nil || !strings.Contains(err.Error(), x.why) || connect.IsBroken(err) != x.broken || connect.Passes(err) != x.later || connect.StatusOf(err) != a.Status) {
				t.Errorf("%v; somebody must change it: %v, it may pass: %v", err, connect.IsBroken(err), connect.Passes(err))
			}
		})
	}
}

// TestLongWaits: a place that asks for a wait is waited for, as long as whoever asks is there.
func TestLongWaits(t *testing.T) {
	t.Parallel()
	for _, wait := range []string{"30", "9999999999", "9223372036854775807", "Mon, 30 Nov 2099 08:00:00 GMT"} {
		p, w, address := place(t, answer{429, http.Header{"Retry-After": {wait}}, ""}, answer{200, nil, ""})
		ctx, stop := context.WithTimeout(t.Context(), 200*time.Millisecond)
		_, err := w.Do(ctx, "GET", address, nil, nil)
		stop()
		if !errors.Is(err, context.DeadlineExceeded) || len(p.asked) != 1 {
			t.Errorf("to wait %s: asked %d times, %v", wait, len(p.asked), err)
		}
	}
}

// TestSignIn: a sign-in that is not taken any more is renewed once, and asked with again.
func TestSignIn(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		answers []answer
		renews  func() (bool, error)
		asked   string
		broken  bool
	}{
		"taken anew":          {[]answer{{401, nil, ""}, {200, nil, ""}}, func() (bool, error) { return true, nil }, "GET 1,GET 2", false},
		"not even then":       {[]answer{{401, nil, ""}, {401, nil, ""}}, func() (bool, error) { return true, nil }, "GET 1,GET 2", true},
		"nothing to renew":    {[]answer{{401, nil, ""}}, func() (bool, error) { return false, nil }, "GET 1", true},
		"renewing is refused": {[]answer{{401, nil, ""}}, func() (bool, error) { return false, connect.Broken("the device was signed out") }, "GET 1", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, w, address := place(t, x.answers...)
			key := 1
			w.SignIn = func(_ context.Context, r *http.Request) error {
				r.Header.Set("Authorization", fmt.Sprint(key))
				return nil
			}
			w.Renew = func(context.Context) (bool, error) { key++; return x.renews() }
			_, err := w.Do(t.Context(), "GET", address, nil, nil, 200)
			if got := strings.Join(p.asked, ","); got != x.asked || connect.IsBroken(err) != x.broken {
				t.Errorf("asked %q, %v", got, err)
			}
		})
	}
	_, w, address := place(t, answer{200, nil, ""})
	w.SignIn = func(context.Context, *http.Request) error { return connect.Broken("there is no key") }
	if _, err := w.Do(t.Context(), "GET", address, nil, nil, 200); !connect.IsBroken(err) {
		t.Errorf("without a key: %v", err)
	}
}

// TestLines: a host that cannot be reached, or that may not be, and an answer that breaks off.
func TestLines(t *testing.T) {
	t.Parallel()
	_, w, _ := place(t, answer{200, nil, ""})
	if _, err := w.Do(t.Context(), "GET", "http://%zz/", nil, nil); err == nil || !strings.Contains(err.Error(), "is not an address") || connect.Passes(err) {
		t.Errorf("no address: %v", err)
	}
	_, _, address := place(t, answer{200, nil, ""})
	private := connect.Env{}.NewWeb("", 0)
	if _, err := private.Do(t.Context(), "GET", address, nil, nil); err == nil || !strings.Contains(err.Error(), "not at a public address") || connect.Passes(err) {
		t.Errorf("a private address: %v", err)
	}
	breaks := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		_, _ = io.WriteString(w, "half of it")
	}))
	t.Cleanup(breaks.Close)
	ctx, stop := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer stop()
	if _, err := w.Do(ctx, "GET", breaks.URL, nil, nil); err == nil {
		t.Error("an answer that breaks off is taken")
	}
}

// TestInColumns: addresses are kept in their columns, and more than there are columns in the last; a contact is the same by them.
func TestInColumns(t *testing.T) {
	t.Parallel()
	many := strings.Fields("a@x.example b@x.example c@x.example d@x.example e@x.example f@x.example g@x.example h@x.example i@x.example j@x.example")
	for _, x := range []struct {
		given []string
		want  string
	}{
		{nil, ""},
		{[]string{"", " "}, ""},
		{[]string{" ada.moss@fernhollow.example ", ""}, "ada.moss@fernhollow.example"},
		{[]string{"", "second@fernhollow.example"}, "|second@fernhollow.example"},
		{many, "a@x.example|b@x.example|c@x.example|d@x.example|e@x.example|f@x.example|g@x.example|h@x.example, i@x.example, j@x.example"},
	} {
		if got := strings.Join(connect.InColumns(x.given), "|"); got != x.want {
			t.Errorf("%q: %s", x.given, got)
		}
	}
	if !connect.Same([]string{"Ada.Moss@fernhollow.example"}, []string{"ada.moss@FERNHOLLOW.example", ""}) || connect.Same(many, many[:8]) {
		t.Error("who is the same is not seen")
	}
}

// TestContactsHold: what cannot be kept is said, with the contact and the field that it is in.
func TestContactsHold(t *testing.T) {
	t.Parallel()
	for want, c := range map[string]connect.Contact{
		"":                         {Key: "7", Cells: []connect.Cell{{Name: "name", Value: "Ada"}}},
		"A contact has no key":     {Addresses: []string{"ada.moss@fernhollow.example"}},
		"The field “notes” of the": {Key: "7", Cells: []connect.Cell{{Name: "notes", Value: strings.Repeat("x", connect.MostCell+1)}}},
	} {
		if err := c.Hold(); want == "" && err != nil || want != "" && (err == nil || !strings.HasPrefix(err.Error(), want)) {
			t.Errorf("%.40q: %v", want, err)
		}
	}
}
