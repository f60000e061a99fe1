package e2e

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/core/outbound"
	"varnet/core/rule"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// startRelay starts a relay and returns the line by which it is added.
func startRelay(t *testing.T, args ...string) string {
	t.Helper()
	state := t.TempDir()
	cmd := testkit.Command(nil, append([]string{"relay", "-listen", "127.0.0.1:0", "-state", state}, args...)...)
	out, err := cmd.StderrPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() })
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if strings.Contains(lines.Text(), "relay://") {
			t.Errorf("the token goes where logs go: %s", lines.Text())
		}
		if _, at, ok := strings.Cut(lines.Text(), "The relay listens on "); ok {
			at, _, _ = strings.Cut(at, ". ")
			return shown(t, "relay", "route", "-state", state, "-listen", at)
		}
	}
	t.Fatal("the relay does not say where it listens")
	return ""
}

// shown is what a command prints.
func shown(t *testing.T, args ...string) string {
	t.Helper()
	out, err := testkit.Command(nil, args...).Output()
	if err != nil {
		t.Fatalf("%q: %v", args, err)
	}
	return strings.TrimSpace(string(out))
}

// proxy starts a practice proxy with a source address of its own.
func proxy(t *testing.T, i *practice.Internet, kind, source, user, password string) string {
	t.Helper()
	addr, _, err := i.StartProxy(practice.Proxy{Kind: kind, Listen: "127.0.0.1:0", Source: netip.MustParseAddr(source), User: user, Password: password})
	if err != nil {
		t.Fatal(err)
	}
	return addr
}

// TestOutbound puts every fault there is into outbound, and wants a
// sentence with the cure for each.
func TestOutbound(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), context.Background()
	liar, err := i.StartLiar("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	socks, signed := proxy(t, i, "socks5", "127.32.0.1", "", ""), proxy(t, i, "socks5", "127.32.0.1", "library", "seedcake")
	connect := proxy(t, i, "connect", "127.32.0.1", "library", "seedcake")
	good := startRelay(t, "-ports", strconv.Itoa(i.Port), "-allow-private", "yes")
	guarded, elsewhere := startRelay(t, "-ports", strconv.Itoa(i.Port)), startRelay(t, "-ports", "25", "-allow-private", "yes")
	token, rest, _ := strings.Cut(strings.TrimPrefix(good, "relay://"), "@")

	for _, c := range []struct {
		name  string
		kind  outbound.Kind
		line  string
		grade outbound.Grade
		says  string
		do    string
	}{
		{"a resolver that answers", outbound.Resolver, i.DNS, outbound.Good, "Answers honestly about names that do not exist", ""},
		{"a dead resolver", outbound.Resolver, "127.0.0.1:9", outbound.Bad, "gave no answer", "or remove it"},
		{"a lying resolver", outbound.Resolver, liar, outbound.Bad, "It lies", "Remove it"},
		{"straight out", outbound.Route, "direct", outbound.Good, fmt.Sprintf("greeted us on port %d", i.Port), ""},
		{"from an address of this host", outbound.Route, "direct://127.32.0.2", outbound.Good, "greeted us", ""},
		{"a SOCKS5 proxy", outbound.Route, "socks5://" + socks, outbound.Good, "greeted us", ""},
		{"a SOCKS5 proxy with sign-in", outbound.Route, "socks5://library:seedcake@" + signed, outbound.Good, "greeted us", ""},
		{"one that wants a sign-in", outbound.Route, "socks5://" + signed, outbound.Bad, "needs another kind of sign-in", "right user and password"},
		{"one with a wrong password", outbound.Route, "socks5://library:crumbs@" + signed, outbound.Bad, "does not take the user and password", "right user and password"},
		{"a CONNECT proxy with sign-in", outbound.Route, "http://library:seedcake@" + connect, outbound.Good, "greeted us", ""},
		{"a CONNECT proxy that wants one", outbound.Route, "http://" + connect, outbound.Bad, "does not take the sign-in", "right user and password"},
		{"a dead proxy", outbound.Route, "socks5://127.0.0.1:9", outbound.Bad, "cannot be reached", "or remove it"},
		{"what is not a proxy", outbound.Route, "http://" + i.DNS, outbound.Bad, "does not do its work", "or remove it"},
		{"a relay", outbound.Route, good, outbound.Good, "greeted us", ""},
		{"a relay with a wrong token", outbound.Route, "relay://" + strings.Repeat("x", len(token)) + "@" + rest, outbound.Bad, "the token is not that of this relay", "the line that the relay prints"},
		{"a relay with another certificate", outbound.Route, "relay://" + token + "@" + strings.Split(rest, "=")[0] + "=" + strings.Repeat("ab", 32), outbound.Bad, "another certificate", "the line that the relay prints"},
		{"a relay asked for a private address", outbound.Route, guarded, outbound.Bad, "is not a public address", "allow connections"},
		{"a relay asked for another port", outbound.Route, elsewhere, outbound.Bad, fmt.Sprintf("port %d is not a port of mail hosts", i.Port), "allow connections"},
		{"a good identity", outbound.Identity, "verify.fernhollow.example check@fernhollow.example", outbound.Good, "The SPF record of fernhollow.example allows", ""},
		{"a name that does not resolve", outbound.Identity, "nowhere.fernhollow.example check@fernhollow.example", outbound.Reservation, "does not resolve", "Use verify.fernhollow.example instead"},
		{"a sender without SPF", outbound.Identity, "verify.fernhollow.example check@postbarn.example", outbound.Reservation, "postbarn.example has no SPF record", "Publish one"},
		{"a sender whose domain takes no mail", outbound.Identity, "verify.fernhollow.example check@nomail.example", outbound.Reservation, "takes no mail", "whose domain takes mail"},
		{"the empty sender", outbound.Identity, "verify.fernhollow.example <>", outbound.Reservation, "empty sender", "Publish one"},
		{"a blocklist", outbound.Blocklist, "blocklist.example", outbound.Good, "as a blocklist should", ""},
		{"what is not a blocklist", outbound.Blocklist, "parked.example", outbound.Reservation, "does not hold its own test entry", "Remove it"},
	} {
		t.Run(c.name, func(t *testing.T) {
			side, err := api.AddParts(ctx, c.kind, c.line)
			if err != nil {
				t.Fatal(err)
			}
			p := side.Parts[len(side.Parts)-1]
			for _, q := range side.Parts { // one that was there is changed
				if q.ID != 0 && q.Kind == c.kind && (q.Name == c.line || q.ID > p.ID || p.Kind != c.kind) {
					p = q
				}
			}
			text, cures := "", ""
			for _, k := range p.Checks {
				text += k.Says + " "
				cures += k.Do + " "
				if (k.Grade == outbound.Good) != (k.Do == "") {
					t.Errorf("a check that is %s says to do %q", k.Grade, k.Do)
				}
			}
			if p.Grade != c.grade || !strings.Contains(text, c.says) || !strings.Contains(cures, c.do) {
				t.Errorf("%s is %s: %s To do: %s", p.Name, p.Grade, text, cures)
			}
			if strings.Contains(fmt.Sprint(side), "seedcake") || strings.Contains(fmt.Sprint(side), token) {
				t.Error("a secret is shown")
			}
			if err := api.RemovePart(ctx, p.ID); err != nil {
				t.Error(err)
			}
		})
	}

	t.Run("lines that are wrong add nothing", func(t *testing.T) {
		_, err := api.AddParts(ctx, outbound.Route, "# ours\nsocks5://ok.example\n\nnot a route\n")
		if status(err) != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), "Line 4: a route begins with") {
			t.Errorf("got %v", err)
		}
		if side, err := api.Outbound(ctx); err != nil || strings.Contains(fmt.Sprint(side.Parts), "ok.example") {
			t.Errorf("%v: half of it was added", err)
		}
	})
	t.Run("dead ones are removed in one go", func(t *testing.T) {
		if _, err := api.AddParts(ctx, outbound.Route, "direct\nsocks5://127.0.0.1:9\nsocks5://127.0.0.1:10\n"); err != nil {
			t.Fatal(err)
		}
		if r, err := api.RemoveFailed(ctx, outbound.Route); err != nil || r.Removed != 2 {
			t.Errorf("%+v, %v", r, err)
		}
	})
	for domain, says := range map[string]string{"closedgate.example": fmt.Sprintf("Port %d seems closed this way", i.Port), "oldquarry.example": "but no greeting came",
		"highfence.example": "takes connections and refuses us"} {
		t.Run("the way to "+domain, func(t *testing.T) {
			if _, err := api.SetOutbound(ctx, contract.OutboundSettings{Reference: []string{domain}}); err != nil {
				t.Fatal(err)
			}
			side, err := api.TestOutbound(ctx)
			if err != nil || !strings.Contains(fmt.Sprint(side.Parts), says) {
				t.Fatalf("%v: %+v", err, side)
			}
			ready, err := api.Readiness(ctx)
			if want := domain == "highfence.example"; err != nil || (ready.State == outbound.NotReady) == want || ready.Next == "" {
				t.Errorf("%v: %+v", err, ready)
			}
		})
	}
	t.Run("a run is begun while it is not ready", func(t *testing.T) {
		if _, err := api.SetOutbound(ctx, contract.OutboundSettings{Reference: []string{"closedgate.example"}}); err != nil {
			t.Fatal(err)
		}
		if _, err := api.TestOutbound(ctx); err != nil {
			t.Fatal(err)
		}
		path, _ := writeList(t, i.World, 10)
		text, err := testkit.Command(s.Env, "clean", path, "-out", path+".kept").CombinedOutput()
		if err != nil || !strings.Contains(string(text), "Outbound is not ready. No route comes as far as a mail host") {
			t.Errorf("%v: %s", err, text)
		}
	})
	t.Run("another workspace", func(t *testing.T) {
		key, err := testkit.Command(s.Env, "key", "new", "-workspace", "the neighbours").Output()
		if err != nil {
			t.Fatal(err)
		}
		theirs := client.New(s.URL, strings.TrimSpace(string(key)))
		if _, err := theirs.Outbound(ctx); status(err) != http.StatusForbidden {
			t.Errorf("sees outbound: %v", err)
		}
		if _, err := theirs.Readiness(ctx); err != nil {
			t.Errorf("may not know whether it is ready: %v", err)
		}
	})
}

// TestSecrets looks for passwords and tokens where they must not be: in what the
// API returns, in the log and in the database.
func TestSecrets(t *testing.T) {
	t.Parallel()
	i, dsn := testkit.World(t, "fernhollow"), testkit.Database(t)
	s := testkit.Serve(t, append(testkit.Settings(dsn, i), "VARNET_LOG_LEVEL=debug"))
	ctx := context.Background()
	const password, token = "Pomegranate-Ploughshare", "Tok3n-of-the-relay-at-the-mill-pond"
	lines := "socks5://ada:" + password + "@127.0.0.1:9\nrelay://" + token + "@127.0.0.1:9?certificate=" + strings.Repeat("ab", 32)
	add := testkit.Command(s.Env, "outbound", "add", "route", "-file", "-", "-json")
	add.Stdin = strings.NewReader(lines)
	shown, err := add.CombinedOutput()
	if err != nil || !strings.Contains(string(shown), `"secret": true`) {
		t.Fatalf("%v: %s", err, shown)
	}
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(ctx) }()
	var kept string
	if err := conn.QueryRow(ctx, "SELECT string_agg(p::text, ' ') || (SELECT string_agg(o::text, ' ') FROM sending_outcome o) || encode(string_agg(sealed, ''), 'escape') FROM sending_part p").Scan(&kept); err != nil {
		t.Fatal(err)
	}
	for what, text := range map[string]string{"what the API gives": string(shown), "the database": kept, "the log": s.Log()} {
		for _, secret := range []string{password, token} {
			if strings.Contains(text, secret) {
				t.Errorf("%s holds the secret %s", what, secret)
			}
		}
		if len(text) == 0 {
			t.Errorf("%s is empty", what)
		}
	}
}

// byAddress returns all results of a run by what stands in the cell.
func byAddress(t *testing.T, api *client.Client, run int64) map[string]contract.Result {
	t.Helper()
	out := map[string]contract.Result{}
	for _, r := range allResults(t, api, run) {
		out[r.Typed] = r
	}
	return out
}

// TestBlockedRoute runs over three routes, of which every host refuses one from
// some point on, with two workers. The findings are those of a run that nobody
// refused, the run tells what happened, and no host ever sees more sessions
// from one address than an operator may have.
func TestBlockedRoute(t *testing.T) {
	t.Parallel()
	const cap = 2
	i := testkit.World(t, "fernhollow")
	_, content := writeList(t, i.World, 4000)
	ctx := context.Background()
	var sources []string
	for n := range 3 {
		sources = append(sources, "socks5://"+proxy(t, i, "socks5", fmt.Sprintf("127.32.1.%d", n+1), "", ""))
	}
	clean := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	undisturbed := client.New(clean.URL, clean.Key)
	by(t, undisturbed, cap, sources)
	run := start(t, undisturbed, content)
	if _, err := undisturbed.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	want := byAddress(t, undisturbed, run.ID)

	settings := testkit.Settings(testkit.Database(t), i)
	s := testkit.Serve(t, settings)
	worker := testkit.Command(settings, "worker")
	if err := worker.Start(); err != nil {
		t.Fatal(err)
	}
	defer stop(worker)
	api := client.New(s.URL, s.Key)
	by(t, api, cap, sources)
	// The route of the largest operator is the one to be refused.
	tried, err := api.TryRules(ctx, "ada@postbarn.example")
	if err != nil {
		t.Fatal(err)
	}
	refused := slices.Index(sources, tried.Route)
	before := recipients(i)
	run = start(t, api, content)
	// The hosts themselves tell how far it is; events come too seldom for that.
	blocked := make(chan struct{})
	go func() {
		defer close(blocked)
		for t.Context().Err() == nil && int64(recipients(i)-before)*100 < run.Addresses*30 {
			time.Sleep(time.Millisecond)
		}
		i.Block(netip.MustParseAddr(fmt.Sprintf("127.32.1.%d", refused+1)))
	}()
	var told string
	end, err := api.Wait(ctx, run.ID, func(r contract.Run) {
		at := slices.IndexFunc(r.Notices, func(n string) bool { return strings.Contains(n, "refuse us") })
		if at >= 0 && told == "" {
			told = r.Notices[at]
			if r.FinishedAt != nil {
				t.Error("the event stream told it only at the end")
			}
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	<-blocked
	if !strings.Contains(told, "us by the route "+sources[refused]) || !strings.Contains(told, "554 5.7.1") {
		t.Errorf("the event stream told: %q", told)
	}
	t.Logf("told at the end: %s", strings.Join(end.Notices, "\n"))
	got := byAddress(t, api, run.ID)
	if len(got) != len(want) {
		t.Fatalf("%d results, want %d", len(got), len(want))
	}
	for typed, w := range want {
		if g := got[typed]; g.Finding != w.Finding || g.Cause != w.Cause {
			e, _ := api.Evidence(ctx, run.ID, g.Ordinal)
			t.Errorf("%s: %s (%s), undisturbed %s (%s): %+v", typed, g.Finding, g.Cause, w.Finding, w.Cause, e.Asked)
		}
	}
	for _, h := range i.Hosts() {
		for source, most := range h.Stats().MostOpenFrom {
			if strings.HasPrefix(source, "127.32.1.") && most > cap {
				t.Errorf("%s saw %d sessions at a time from %s, of at most %d", h.Name, most, source, cap)
			}
		}
	}
}

// recipients is how often the hosts were asked about a mailbox.
func recipients(i *practice.Internet) (n int) {
	for _, h := range i.Hosts() {
		n += h.Stats().Recipients
	}
	return n
}

// by makes the routes the only ones.
func by(t *testing.T, api *client.Client, cap int, routes []string) {
	t.Helper()
	side, err := api.AddParts(context.Background(), outbound.Route, strings.Join(routes, "\n"))
	for _, p := range side.Parts {
		if err == nil && p.Name == "direct" {
			err = api.RemovePart(context.Background(), p.ID)
		}
	}
	if err == nil {
		_, err = api.SetOutbound(context.Background(), contract.OutboundSettings{Cap: cap})
	}
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(1100 * time.Millisecond) // every process knows of it
}

func stop(cmd *exec.Cmd) {
	_ = cmd.Process.Signal(syscall.SIGTERM)
	_ = cmd.Wait()
}

// TestRules makes rules and looks at what they do to a run.
func TestRules(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), context.Background()
	socks := "socks5://" + proxy(t, i, "socks5", "127.32.2.1", "", "")
	if _, err := api.AddParts(ctx, outbound.Route, socks); err != nil {
		t.Fatal(err)
	}
	rules := []contract.Rule{
		{Of: rule.OfDomain, Pattern: "*meadow.example", Depth: rule.Never, Note: "they asked us not to"},
		{Of: rule.OfAddress, Pattern: "info@*", Depth: "domain"},
		{Of: rule.OfOperator, Pattern: "postbarn.example", Route: socks, Lanes: 1},
		{Of: rule.OfOperator, Pattern: "*", Route: "direct"},
	}
	for want, wrong := range map[string]contract.Rule{"Rule 1: there is no route": {Of: rule.OfDomain, Pattern: "x", Route: "nowhere"}, "Rule 1: the rule changes nothing": {Of: rule.OfDomain, Pattern: "x"}} {
		if _, err := api.SetRules(ctx, []contract.Rule{wrong}); status(err) != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v", wrong, err)
		}
	}
	if _, err := api.SetRules(ctx, rules); err != nil {
		t.Fatal(err)
	}
	if tried, err := api.TryRules(ctx, "ada.mossman@postbarn.example"); err != nil || tried.Rule != 3 || tried.Route != socks || tried.Lanes != 1 {
		t.Errorf("%v: %+v", err, tried)
	}
	text, err := testkit.Command(s.Env, "outbound", "try", "ada@mailmeadow.example").Output()
	if err != nil || !strings.Contains(string(text), "Rule 1 matches ada@mailmeadow.example") || !strings.Contains(string(text), "are never asked about") {
		t.Errorf("%v: %s", err, text)
	}
	time.Sleep(1100 * time.Millisecond)
	_, content := writeList(t, i.World, 600)
	run := start(t, api, content)
	if _, err := api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	seen := map[string]int{}
	for _, r := range allResults(t, api, run.ID) {
		switch {
		case r.Domain == "":
		case r.Domain == "mailmeadow.example" && r.Cause != finding.RuleSkipped:
			t.Errorf("%s: %s", r.Typed, r.Cause)
		case r.Domain == "postbarn.example" && strings.HasPrefix(r.Mailbox, "info@") && r.Cause != finding.RuleDepth:
			t.Errorf("%s: %s", r.Typed, r.Cause)
		case r.Domain == "longgone.example" && r.Cause != finding.DomainAbsent:
			t.Errorf("a rule hides what DNS says: %s: %s", r.Typed, r.Cause)
		}
		seen[r.Domain]++
	}
	if seen["mailmeadow.example"] == 0 || seen["postbarn.example"] == 0 || seen["longgone.example"] == 0 {
		t.Fatalf("the list lacks what is looked for: %v", seen)
	}
	for _, h := range i.Hosts() {
		from := h.Stats().MostOpenFrom
		switch {
		case h.Name == "mx1.mailmeadow.example" && h.Stats().Recipients > 0:
			t.Error("mailmeadow.example was asked")
		case h.Name == "mx1.postbarn.example" && (from["127.32.2.1"] != 1 || from["127.0.0.1"] != 0):
			t.Errorf("postbarn.example saw sessions from %v", from)
		}
	}
}

// TestOnlyRoute loses the only route twice: first its proxy goes away and comes
// back, then every host refuses it for good. The first costs nothing but time;
// the second leaves addresses undecided, and never undeliverable.
func TestOnlyRoute(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	p := practice.Proxy{Kind: "socks5", Listen: "127.0.0.1:0", Source: netip.MustParseAddr("127.32.3.1")}
	addr, stop, err := i.StartProxy(p)
	if err != nil {
		t.Fatal(err)
	}
	by(t, api, 1, []string{"socks5://" + addr})
	_, content := writeList(t, i.World, 2000)
	recipients := func() (n int) {
		for _, h := range i.Hosts() {
			n += h.Stats().Recipients
		}
		return n
	}
	// followed waits for the run to end and returns its results and every notice it had;
	// it calls each with them as they come.
	followed := func(run contract.Run, each func(told string)) (map[string]contract.Result, string) {
		t.Helper()
		told := map[string]bool{}
		_, err := api.Wait(ctx, run.ID, func(r contract.Run) {
			for _, n := range r.Notices {
				told[n] = true
			}
			each(fmt.Sprint(told))
		})
		if err != nil {
			t.Fatal(err)
		}
		return byAddress(t, api, run.ID), fmt.Sprint(told)
	}
	run := start(t, api, content)
	// However late the run's own events come, its hosts tell when it is under way.
	for end := time.Now().Add(time.Minute); recipients() < 50; time.Sleep(2 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the hosts were asked nothing")
		}
	}
	stop()
	var back sync.Once
	found, told := followed(run, func(told string) {
		if strings.Contains(told, "the run waits until then") {
			back.Do(func() {
				p.Listen = addr
				if _, _, err := i.StartProxy(p); err != nil {
					t.Error(err)
				}
			})
		}
	})
	if !strings.Contains(told, "the route socks5://"+addr+" failed") {
		t.Errorf("told: %s", told)
	}
	for typed, r := range found {
		if r.Cause == finding.ExchangerUnreachable && r.Domain != "closedgate.example" {
			t.Errorf("%s is called unreachable for a dead proxy", typed)
		}
	}
	i.Block(p.Source)
	found, told = followed(start(t, api, content), func(string) {})
	if !strings.Contains(told, "too many hosts refused the route") || !strings.Contains(told, "There is no other") {
		t.Errorf("told: %s", told)
	}
	refused := 0
	for typed, r := range found {
		truth := i.World.Truth(practice.Canonical(typed))
		if r.Finding == finding.Undeliverable && truth.Deliverable() {
			t.Errorf("%s is called undeliverable (%s) by a refused route", typed, r.Cause)
		}
		if r.Cause == finding.ExchangerBlocksUs {
			refused++
		}
	}
	if refused < 100 {
		t.Errorf("only %d addresses were refused", refused)
	}
}
