package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"varnet/core/pace"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// neighbours makes a key of another workspace.
func neighbours(t *testing.T, s *testkit.Service, name string) *client.Client {
	t.Helper()
	return client.New(s.URL, keyTo(t, s, name))
}

// keyTo is a key to a workspace, which is made if need be.
func keyTo(t *testing.T, s *testkit.Service, name string) string {
	t.Helper()
	made, err := testkit.Command(s.Env, "key", "new", "-workspace", name).Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(made))
}

// raw sends a request as it is written and returns the connection, and the status once there
// is an answer.
func raw(t *testing.T, s *testkit.Service, request string) (net.Conn, func() string) {
	t.Helper()
	at, _ := url.Parse(s.URL)
	conn, err := net.Dial("tcp", at.Host)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	if _, err := io.WriteString(conn, request); err != nil {
		t.Fatal(err)
	}
	return conn, func() string {
		_ = conn.SetReadDeadline(time.Now().Add(40 * time.Second))
		line, _ := bufio.NewReader(conn).ReadString('\n')
		return strings.TrimSpace(line)
	}
}

// TestSlowClients: files that come and go slowly hold nothing that others need, and end.
func TestSlowClients(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	var text strings.Builder
	text.WriteString("e-mail,note\n")
	for n := range 60_000 {
		fmt.Fprintf(&text, "ada.moss%d@fernhollow.example,%s\n", n, strings.Repeat("seeds ", 40))
	}
	_, run := startNamed(t, client.New(s.URL, s.Key), "members.csv", []byte(text.String()), "syntax")
	theirs := neighbours(t, s, "the neighbours")
	if _, err := client.New(s.URL, s.Key).Wait(t.Context(), run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	var answers []func() string
	for n := range 26 {
		_, up := raw(t, s, fmt.Sprintf("POST /api/v1/lists?name=slow%d HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nContent-Type: application/octet-stream\r\nContent-Length: 100000\r\n\r\ne-mail\r\nada@", n, s.Key))
		raw(t, s, fmt.Sprintf("GET /api/v1/runs/%d/export/file?decision=all HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\n\r\n", run.ID, s.Key))
		answers = append(answers, up)
	}
	var took []time.Duration
	for range 60 {
		at := time.Now()
		if _, err := newestLists(t.Context(), theirs); err != nil {
			t.Fatal(err)
		}
		took = append(took, time.Since(at))
		if resp, err := http.Get(s.URL + "/readyz"); err != nil || resp.StatusCode != http.StatusOK {
			t.Fatalf("not ready: %v, %v", resp, err)
		}
	}
	slices.Sort(took)
	t.Logf("while 26 send and 26 read slowly, the neighbours' lists take %v, and %v at worst", took[30], took[59])
	if took[30] > time.Second {
		t.Errorf("the neighbours wait %v", took[30])
	}
	if _, err := importText(t, theirs, "e-mail\nben@fernhollow.example\n"); err != nil {
		t.Errorf("the neighbours import: %v", err)
	}
	counts, told := map[string]int{}, make(chan string, len(answers))
	for _, answer := range answers {
		go func() { told <- answer() }()
	}
	for range answers {
		_, status, _ := strings.Cut(<-told, " ")
		counts[status]++
	}
	if counts["408 Request Timeout"] != 4 || counts["429 Too Many Requests"] != 22 || time.Since(begun) > 60*time.Second {
		t.Errorf("after %v: %v", time.Since(begun), counts)
	}
}

// TestQuotas: a workspace asks as much as it may, and others are none the worse.
func TestQuotas(t *testing.T) {
	t.Parallel()
	p, _ := withLetters(t)
	theirs := neighbours(t, p.Service, "the neighbours")
	p.signUpMode("invitation", func(s *contract.InstallationSettings) {
		s.Limits = contract.Limits{RequestsMinute: 60, ChecksMinute: 5, Imports: 1, Exports: 1, Streams: 3, Uploads: 2, UploadMB: 1, Lists: 1}
	})
	time.Sleep(6 * time.Second) // the limits are read every few seconds
	refused, calls := 0, client.New(p.URL, p.Key)
	for range 90 {
		if _, err := newestLists(t.Context(), calls); status(err) == http.StatusTooManyRequests {
			refused++
		}
	}
	if refused < 20 || refused > 40 {
		t.Errorf("of 90 requests %d were refused, where 60 a minute may be", refused)
	}
	if _, err := newestLists(t.Context(), theirs); err != nil {
		t.Errorf("the neighbours: %v", err)
	}
	_, err := theirs.Check(t.Context(), []string{"a@fernhollow.example", "b@fernhollow.example", "c@fernhollow.example"})
	if err != nil {
		t.Error(err)
	}
	if _, err := theirs.Check(t.Context(), []string{"d@fernhollow.example", "e@fernhollow.example", "f@fernhollow.example"}); status(err) != http.StatusTooManyRequests || !strings.Contains(err.Error(), "5 single addresses a minute") {
		t.Errorf("more checks than may be: %v", err)
	}
	senders := keyTo(t, p.Service, "the senders")
	for _, c := range []struct {
		key  string
		size int64
		may  bool
	}{{"first-file", 600_000, true}, {"too-large", 500_000, false}, {"second-file", 300_000, true}, {"first-file", 600_000, true}, {"third-file", 10, false}} {
		body := fmt.Sprintf(`{"size":%d}`, c.size)
		_, answer := raw(t, p.Service, fmt.Sprintf("PUT /api/v1/uploads/%s HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", c.key, senders, len(body), body))
		if says := answer(); (says == "HTTP/1.1 200 OK") != c.may || !c.may && says != "HTTP/1.1 429 Too Many Requests" {
			t.Errorf("%s of %d bytes: %s", c.key, c.size, says)
		}
	}
	if _, err := theirs.Import(t.Context(), client.File{Name: "one.csv", Body: strings.NewReader("e-mail\nada@fernhollow.example\n")}); err != nil {
		t.Error(err)
	}
	if _, err := theirs.Import(t.Context(), client.File{Name: "two.csv", Body: strings.NewReader("e-mail\nada@fernhollow.example\n")}); status(err) != http.StatusConflict || !strings.Contains(err.Error(), "may have 1 lists, and has them") {
		t.Errorf("another list: %v", err)
	}
	codes := map[string]int{}
	for range 6 {
		_, answer := raw(t, p.Service, "GET /api/v1/events HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer "+p.owner.session()+"\r\n\r\n")
		codes[answer()]++
	}
	if codes["HTTP/1.1 200 OK"] > 3 || codes["HTTP/1.1 429 Too Many Requests"] < 3 {
		t.Errorf("streams: %v", codes)
	}
}

// TestOutside: what anybody can send makes no label, reaches no metrics, and goes by no name
// that is not ours.
func TestOutside(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_METRICS_TOKEN=seen by few"))
	at, _ := url.Parse(s.URL)
	for n := range 300 {
		conn, err := net.Dial("tcp", at.Host)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "SEED%d / HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n", n)
		_, _ = io.Copy(io.Discard, conn)
		_ = conn.Close()
	}
	metrics := func(token string) (int, string) {
		req, _ := http.NewRequestWithContext(t.Context(), "GET", "http://"+s.Metrics+"/metrics", nil)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(text)
	}
	if code, _ := metrics("a guess"); code != http.StatusUnauthorized {
		t.Errorf("metrics with another token: %d", code)
	}
	code, text := metrics("seen by few")
	if code != http.StatusOK || strings.Contains(text, "SEED") || !strings.Contains(text, `method="other"`) {
		t.Errorf("%d, with made-up methods: %v", code, strings.Contains(text, "SEED"))
	}
	if resp, err := http.Get(s.URL + "/metrics"); err != nil || strings.Contains(resp.Header.Get("Content-Type"), "version=0.0.4") {
		t.Errorf("metrics are where the console is: %v", err)
	}
	for host, want := range map[string]string{"elsewhere.example": "421 Misdirected Request", "localhost": "401 Unauthorized", "127.0.0.1:1": "401 Unauthorized"} {
		_, answer := raw(t, s, "GET /api/v1/session HTTP/1.1\r\nHost: "+host+"\r\n\r\n")
		if got := answer(); got != "HTTP/1.1 "+want {
			t.Errorf("for %s: %s", host, got)
		}
	}
}

// TestChecksKeepPace: whoever checks many single addresses at once opens no more sessions at a
// host than a run does.
func TestChecksKeepPace(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	var calls sync.WaitGroup
	for n := range 6 {
		calls.Go(func() {
			var addresses []string
			for k := range 15 { // within what a workspace may check at once
				addresses = append(addresses, fmt.Sprintf("nobody%d.atall%d@postbarn.example", n, k))
			}
			got, err := client.New(s.URL, s.Key).Check(t.Context(), addresses)
			if err != nil || len(got) != len(addresses) {
				t.Errorf("%d results, %v", len(got), err)
			}
		})
	}
	calls.Wait()
	asked := 0
	for _, h := range i.Hosts() {
		if most := h.Stats().MostOpen; most > pace.DefaultCap {
			t.Errorf("%s saw %d sessions at a time", h.Name, most)
		}
		asked += h.Stats().Sessions
	}
	if asked < 20 {
		t.Errorf("%d sessions in all", asked)
	}
}
