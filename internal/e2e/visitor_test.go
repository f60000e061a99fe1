package e2e

import (
	"bytes"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/pquerna/otp/totp"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// visitor is a browser without a screen: it keeps cookies and calls the API.
type visitor struct {
	t    testing.TB
	url  string
	http *http.Client
}

func visit(t testing.TB, s *testkit.Service) *visitor {
	jar, _ := cookiejar.New(nil)
	return &visitor{t, s.URL, &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// call calls an operation and reads what it answers into out, if it is done; it returns the
// status and what was said.
func (v *visitor) call(method, path string, body, out any) (int, string) {
	v.t.Helper()
	code, _, text := v.send(method, path, body, nil)
	if code < 300 && out != nil {
		if err := json.Unmarshal([]byte(text), out); err != nil {
			v.t.Fatalf("%s %s: %v: %s", method, path, err, text)
		}
	}
	var p struct{ Detail string }
	_ = json.Unmarshal([]byte(text), &p)
	return code, p.Detail
}

// send sends a request with headers and returns all of the answer.
func (v *visitor) send(method, path string, body any, header http.Header) (int, http.Header, string) {
	v.t.Helper()
	var content io.Reader
	if body != nil {
		text, _ := json.Marshal(body)
		content = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(v.t.Context(), method, v.url+"/api/v1"+path, content)
	if err != nil {
		v.t.Fatal(err)
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for name, values := range header {
		req.Header[name] = values
	}
	resp, err := v.http.Do(req)
	if err != nil {
		v.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, resp.Header, string(text)
}

// must calls an operation that is to be done.
func (v *visitor) must(method, path string, body, out any) {
	v.t.Helper()
	if code, why := v.call(method, path, body, out); code >= 300 {
		v.t.Fatalf("%s %s: %d %s", method, path, code, why)
	}
}

// session is the secret of the visitor's session.
func (v *visitor) session() string {
	req, _ := http.NewRequest("GET", v.url, nil)
	for _, c := range v.http.Jar.Cookies(req.URL) {
		if c.Name == "varnet_session" {
			return c.Value
		}
	}
	return ""
}

// api is the client of a visitor who is signed in.
func (v *visitor) api() *client.Client { return client.New(v.url, v.session()) }

// post is a service that sends letters, with the letterbox that they come to.
type post struct {
	*testkit.Service
	box   *practice.Letterbox
	owner *visitor
}

// withLetters starts a service that sends letters to a letterbox, and signs its owner in.
func withLetters(t *testing.T, more ...string) (post, *practice.Internet) {
	t.Helper()
	i := testkit.World(t, "fernhollow")
	box, err := i.StartLetterbox("127.0.0.1:0", "127.0.0.1:0", "", "")
	if err != nil {
		t.Fatal(err)
	}
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), more...))
	host, portText, _ := net.SplitHostPort(box.SMTP)
	port, _ := strconv.Atoi(portText)
	p := post{s, box, visit(t, s)}
	p.owner.must("POST", "/sign-in/password", contract.AddressAndPassword{Address: testkit.Person, Password: testkit.Password}, nil)
	if _, err := p.owner.api().SetLetterServer(t.Context(), contract.NewLetterServer{LetterServer: contract.LetterServer{Host: host, Port: port, Security: "none", Sender: "Varnet <varnet@fernhollow.example>", BaseURL: s.URL}}); err != nil {
		t.Fatal(err)
	}
	return p, i
}

// signUpMode changes who may sign up.
func (p post) signUpMode(mode string, change ...func(*contract.InstallationSettings)) {
	var i contract.Installation
	p.owner.must("GET", "/installation", nil, &i)
	i.SignUp, i.Provider.Redirect = mode, ""
	for _, c := range change {
		c(&i.InstallationSettings)
	}
	p.owner.must("PUT", "/installation", i.InstallationSettings, nil)
}

// letter waits for a letter to somebody with a text in its subject, and returns the latest.
func (p post) letter(to, subject string) practice.Delivered {
	t := p.owner.t
	t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		for _, l := range p.box.Letters(to) {
			if strings.Contains(l.Subject, subject) {
				return l
			}
		}
	}
	t.Fatalf("no letter to %s with “%s” came: %+v", to, subject, p.box.Letters(""))
	return practice.Delivered{}
}

var sixDigits = regexp.MustCompile(`\b\d{3} \d{3}\b`)

// code waits for a code to somebody other than those there were.
func (p post) code(to, subject string, before ...string) string {
	t := p.owner.t
	t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		code := sixDigits.FindString(p.letter(to, subject).Text)
		known := code == ""
		for _, b := range before {
			known = known || b == code
		}
		if !known {
			return code
		}
	}
	t.Fatalf("no new code came to %s", to)
	return ""
}

// link is the link of a letter that leads to a page.
func link(t testing.TB, l practice.Delivered, page string) string {
	t.Helper()
	found := regexp.MustCompile(`http://\S+` + regexp.QuoteMeta(page) + `\S*`).FindString(l.Text)
	if found == "" {
		t.Fatalf("the letter has no link to %s: %s", page, l.Text)
	}
	return found
}

// factor is the code of an authenticator app, some steps from now.
func factor(t testing.TB, secret string, steps int) string {
	t.Helper()
	code, err := totp.GenerateCode(secret, time.Now().Add(time.Duration(steps)*30*time.Second))
	if err != nil {
		t.Fatal(err)
	}
	return code
}

// member signs somebody up by an invitation of the service's owner.
func (p post) member(address, name string, role string) *visitor {
	t := p.owner.t
	t.Helper()
	var i contract.Invitation
	p.owner.must("POST", "/team/invitations", contract.NewInvitation{Address: address, Role: role}, &i)
	_, secret, _ := strings.Cut(i.Link, "#")
	v := visit(t, p.Service)
	v.must("POST", "/invitations/join", contract.Joining{InvitationLink: contract.InvitationLink{Invitation: secret}, Name: name, Password: "a hedge of damson"}, nil)
	return v
}

var ticketOut = regexp.MustCompile(`"ticket":"[^"]*"`)

// read reads JSON.
func read(t testing.TB, text string, into any) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), into); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
}

// execute changes the service's database behind its back.
func execute(t testing.TB, s *testkit.Service, sql string) {
	t.Helper()
	if err := try(t, s, sql); err != nil {
		t.Fatal(err)
	}
}

// importText imports a list.
func importText(t testing.TB, api *client.Client, text string) (contract.List, error) {
	t.Helper()
	return api.Import(t.Context(), client.File{Name: "list.csv", Body: strings.NewReader(text)})
}

// try is execute where it may be refused.
func try(t testing.TB, s *testkit.Service, sql string) error {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), s.Setting("VARNET_DSN"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	_, err = conn.Exec(t.Context(), sql)
	return err
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
