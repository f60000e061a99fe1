//go:build interop

package interop

import (
	"bytes"
	"context"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// Workers on hosts of their own: a hub, in which the database, the service and the mail hosts are, and
// three networks that know the hub alone, each with an address of its own. The hub knows nothing but
// these.
const (
	hub      = "varnet-hub"
	inHubEnv = "VARNET_TEST_IN_HUB"
)

var locations = []string{"shed", "barn", "loft"}

// sourceAt is the address by which mail hosts see the worker of a location, and hubAt the hub's towards it.
func sourceAt(n int) string { return fmt.Sprintf("10.77.%d.2", n+1) }
func hubAt(n int) string    { return fmt.Sprintf("10.77.%d.1", n+1) }

// TestNamespaces: three workers on hosts of their own have a direct route each. Limits of operators and hosts
// hold over all of them; a refusal of one's address moves only its work; rules bind operators to a location;
// single checks go by them; and when one is gone, its work goes on elsewhere.
func TestNamespaces(t *testing.T) {
	if os.Getenv(inHubEnv) != "" {
		inHub(t)
		return
	}
	makeNamespaces(t)
	cmd := exec.Command("ip", "netns", "exec", hub, os.Args[0], "-test.run=^TestNamespaces$", "-test.v", "-test.timeout=8m")
	cmd.Env = append(os.Environ(), inHubEnv+"=yes")
	out, err := cmd.CombinedOutput()
	t.Logf("%s", out)
	if err != nil || !bytes.Contains(out, []byte("--- PASS: TestNamespaces")) {
		t.Error(err)
	}
}

// makeNamespaces makes the hub and the networks of the workers.
func makeNamespaces(t *testing.T) {
	t.Helper()
	names := []string{hub}
	for _, l := range locations {
		names = append(names, "varnet-"+l)
	}
	remove := func() {
		for _, n := range names {
			_ = exec.Command("ip", "netns", "delete", n).Run()
		}
	}
	remove() // what a test that was killed left
	for _, n := range names {
		if out, err := exec.Command("ip", "netns", "add", n).CombinedOutput(); err != nil {
			t.Skipf("network namespaces cannot be made here: %v, %s", err, out)
		}
		t.Cleanup(remove)
		must(t, "ip", "-n", n, "link", "set", "lo", "up")
	}
	// All addresses of the mail hosts and of the name server are the hub's.
	must(t, "ip", "-n", hub, "route", "add", "local", "198.18.0.0/16", "dev", "lo")
	for n, l := range locations {
		inside, outside := "varnet-"+l, fmt.Sprintf("worker%d", n)
		must(t, "ip", "-n", hub, "link", "add", outside, "type", "veth", "peer", "name", "hub", "netns", inside)
		must(t, "ip", "-n", hub, "address", "add", hubAt(n)+"/24", "dev", outside)
		must(t, "ip", "-n", hub, "link", "set", outside, "up")
		must(t, "ip", "-n", inside, "address", "add", sourceAt(n)+"/24", "dev", "hub")
		must(t, "ip", "-n", inside, "link", "set", "hub", "up")
		must(t, "ip", "-n", inside, "route", "add", "default", "via", hubAt(n))
	}
}

// namespaces is the installation in the hub.
type namespaces struct {
	t       *testing.T
	net     *practice.Internet
	service *testkit.Service
	api     *client.Client
	workers map[string]*exec.Cmd
}

// The operators of the world: so many, each with so many people.
const (
	hubOperators = 36
	hubPeople    = 40
)

func inHub(t *testing.T) {
	c := newCluster(t, 0, "listen_addresses = '*'")
	hba, err := os.OpenFile(filepath.Join(c.data(), "pg_hba.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = hba.WriteString("host all all 10.77.0.0/16 trust\n")
		_ = hba.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	c.must(c.bin+"/pg_ctl", "-D", c.data(), "reload")
	c.must("createdb", "varnet")
	var operators []string
	for n := range hubOperators {
		operators = append(operators, fmt.Sprintf(`{"name": "yard-%02[1]d.example", "character": "plain", "domains": ["yard-%02[1]d.example"], "weight": 1, "real": 0.8}`, n))
	}
	w, err := practice.Read(strings.NewReader(fmt.Sprintf(`{"name": "hub", "seed": 28, "greylistMs": 500, "network": "198.18.0.0/16", "outbound": {}, "operators": [%s]}`, strings.Join(operators, ","))))
	if err != nil {
		t.Fatal(err)
	}
	i, err := practice.Start(w, "198.18.255.53:5353", 2525)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(i.Close)
	settings := append(testkit.Settings(c.dsn("postgres", "varnet"), i), "VARNET_REFERENCE=yard-00.example", "VARNET_ROUNDS=2s,2s,2s")
	s := &namespaces{t: t, net: i, service: testkit.Serve(t, settings), workers: map[string]*exec.Cmd{}}
	s.api = client.New(s.service.URL, s.service.Key)
	for n := range locations {
		s.start(c, n)
	}
	s.announced()
	list := s.list()

	first := s.run(list, nil)
	s.allUsed(first)
	s.bounded()
	s.refused(list, first)
	s.bound(list)
	s.single()
	s.lost(c, list)
}

// start starts the worker of a location in its network.
func (s *namespaces) start(c *cluster, n int) {
	s.t.Helper()
	l := locations[n]
	cmd := exec.Command("ip", "netns", "exec", "varnet-"+l, testkit.Binary(), "worker", "-location", l, "-log-level", "warn")
	dsn := strings.Replace(c.dsn("postgres", "varnet"), "127.0.0.1", hubAt(n), 1)
	cmd.Env, cmd.Stderr = append(append(os.Environ(), s.service.Env...), "VARNET_DSN="+dsn), os.Stderr
	if err := cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	s.workers[l] = cmd
	s.t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
}

// eventually waits for something that comes about by itself.
func (s *namespaces) eventually(what string, is func() bool) {
	s.t.Helper()
	for end := time.Now().Add(40 * time.Second); !is(); time.Sleep(200 * time.Millisecond) {
		if time.Now().After(end) {
			s.t.Fatalf("within 40 s it does not come about that %s", what)
		}
	}
}

// announced: each worker's direct route is there, tested from there, and seen by hosts as another address. The
// service's own is removed: it has no way out.
func (s *namespaces) announced() {
	s.t.Helper()
	ctx := s.t.Context()
	var routes map[string]contract.OutboundPart
	s.eventually("the routes of all workers are announced and tested", func() bool {
		o, err := s.api.Outbound(ctx)
		if err != nil {
			s.t.Fatal(err)
		}
		routes = map[string]contract.OutboundPart{}
		for _, p := range o.Parts {
			if p.Kind == "route" {
				routes[p.Name] = p
			}
		}
		for n, l := range locations {
			if p := routes["direct at "+l]; p.Public != sourceAt(n) || p.Grade != "good" {
				return false
			}
		}
		return true
	})
	if err := s.api.RemovePart(ctx, routes["direct"].ID); err != nil {
		s.t.Fatal(err)
	}
	// The test of the whole asks the workers to test theirs.
	o, err := s.api.TestOutbound(ctx)
	if err != nil {
		s.t.Fatal(err)
	}
	for _, p := range o.Parts {
		if p.Kind == "route" && (p.Grade != "good" || !strings.HasPrefix(p.Public, "10.77.")) {
			s.t.Errorf("the route %s: %s, seen as %q: %+v", p.Name, p.Grade, p.Public, p.Checks)
		}
	}
}

func (s *namespaces) list() contract.List {
	s.t.Helper()
	var file strings.Builder
	file.WriteString("e-mail\n")
	for n := range hubPeople {
		for o := range hubOperators {
			fmt.Fprintf(&file, "%s@yard-%02d.example\n", practice.Local(n), o)
		}
	}
	l, err := s.api.Import(s.t.Context(), client.File{Name: "members.csv", Body: strings.NewReader(file.String())})
	if err != nil {
		s.t.Fatal(err)
	}
	return l
}

// run verifies the list and returns by which address each operator was asked; during is done in its midst.
func (s *namespaces) run(l contract.List, during func()) map[string][]string {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.t.Context(), 2*time.Minute)
	defer cancel()
	before := s.sessions()
	run, err := s.api.StartRun(ctx, l.ID, contract.NewRun{})
	if err != nil {
		s.t.Fatal(err)
	}
	if during != nil {
		during()
	}
	if run, err = s.api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil || run.Done != hubOperators*hubPeople {
		s.t.Fatalf("%d of %d addresses are done: %v", run.Done, run.Addresses, err)
	}
	all, err := s.api.AllResults(ctx, run.ID, url.Values{})
	if err != nil {
		s.t.Fatal(err)
	}
	for _, r := range all {
		exists := s.net.World.Truth(practice.Canonical(r.Typed)).Deliverable()
		if r.Finding == finding.Deliverable != exists || r.Finding == finding.Undeliverable == exists {
			s.t.Errorf("%s is %s by %s; that it exists is %v", r.Typed, r.Finding, r.Cause, exists)
		}
	}
	after, asked := s.sessions(), map[string][]string{}
	for operator, by := range after {
		for source, n := range by {
			if n > before[operator][source] {
				asked[operator] = append(asked[operator], source)
			}
		}
		slices.Sort(asked[operator])
	}
	return asked
}

// sessions are how many sessions each operator had from each address.
func (s *namespaces) sessions() map[string]map[string]int {
	out := map[string]map[string]int{}
	for _, h := range s.net.Hosts() {
		out[strings.TrimPrefix(h.Name, "mx1.")] = h.Stats().SessionsFrom
	}
	return out
}

// allUsed: every operator was asked by one worker, and all workers had their part.
func (s *namespaces) allUsed(asked map[string][]string) {
	s.t.Helper()
	part := map[string]int{}
	for operator, by := range asked {
		if len(by) != 1 {
			s.t.Errorf("%s was asked by %v", operator, by)
			continue
		}
		part[by[0]]++
	}
	for n, l := range locations {
		if part[sourceAt(n)] < hubOperators/9 {
			s.t.Errorf("the worker at %s had %d of %d operators", l, part[sourceAt(n)], hubOperators)
		}
	}
	s.t.Logf("operators by the address that asked: %v", part)
}

// bounded: no operator saw more sessions at a time than it has lanes, from all workers together.
func (s *namespaces) bounded() {
	s.t.Helper()
	o, err := s.api.Outbound(s.t.Context())
	if err != nil {
		s.t.Fatal(err)
	}
	for _, h := range s.net.Hosts() {
		if most := h.Stats().MostOpen; most > o.Pace.Cap {
			s.t.Errorf("%s saw %d sessions at a time, of %d", h.Name, most, o.Pace.Cap)
		}
	}
}

// refused: all hosts refuse the address of one worker. Its operators are asked by the others, those of the others
// as before, and nobody's address is found undeliverable by it (which run looks at).
func (s *namespaces) refused(l contract.List, before map[string][]string) {
	s.t.Helper()
	s.net.Block(netip.MustParseAddr(sourceAt(1)))
	after := s.run(l, nil)
	moved := 0
	for operator, by := range before {
		good := slices.DeleteFunc(slices.Clone(after[operator]), func(a string) bool { return a == sourceAt(1) })
		if by[0] == sourceAt(1) {
			moved++
			if len(good) == 0 {
				s.t.Errorf("%s was asked by nobody but the refused one", operator)
			}
		} else if !slices.Equal(after[operator], by) {
			s.t.Errorf("%s was asked by %v, and by %v before", operator, after[operator], by)
		}
	}
	o, err := s.api.Outbound(s.t.Context())
	if err != nil {
		s.t.Fatal(err)
	}
	rests := map[string]string{}
	for _, p := range o.Parts {
		if p.Kind == "route" {
			rests[p.Name] = p.Rests
		}
	}
	if rests["direct at barn"] == "" || rests["direct at shed"] != "" || rests["direct at loft"] != "" {
		s.t.Errorf("the route of the refused worker alone is to rest: %q", rests)
	}
	s.t.Logf("%d operators moved; the route rests: %s", moved, rests["direct at barn"])
}

// bound: a rule binds operators to a location.
func (s *namespaces) bound(l contract.List) {
	s.t.Helper()
	_, err := s.api.SetRules(s.t.Context(), []contract.Rule{{Of: "operator", Pattern: "yard-0*.example", Route: "direct at loft"}})
	if err != nil {
		s.t.Fatal(err)
	}
	time.Sleep(1500 * time.Millisecond) // outbound is read once a second
	for operator, by := range s.run(l, nil) {
		if strings.HasPrefix(operator, "yard-0") && !slices.Equal(by, []string{sourceAt(2)}) {
			s.t.Errorf("%s, bound to the loft, was asked by %v", operator, by)
		}
	}
}

// single: an address checked now goes by a worker, since the service has no way out.
func (s *namespaces) single() {
	s.t.Helper()
	for n := range 4 {
		start := time.Now()
		address := practice.Local(n) + "@yard-07.example"
		checked, err := s.api.Check(s.t.Context(), []string{address})
		if err != nil || len(checked) != 1 {
			s.t.Fatal(err)
		}
		c, exists := checked[0], s.net.World.Truth(practice.Canonical(address)).Deliverable()
		if c.Finding == finding.Deliverable != exists || len(c.Asked) == 0 || c.Asked[0].Conversation == nil {
			s.t.Errorf("%s is %s by %s (exists: %v): %+v", address, c.Finding, c.Cause, exists, c.Asked)
		}
		s.t.Logf("a single check by a worker took %v", time.Since(start).Round(time.Millisecond))
	}
}

// lost: a worker is killed in the midst of a run, and its work goes on by the others.
func (s *namespaces) lost(c *cluster, l contract.List) {
	s.t.Helper()
	if _, err := s.api.SetRules(s.t.Context(), []contract.Rule{}); err != nil {
		s.t.Fatal(err)
	}
	by := s.run(l, func() {
		time.Sleep(300 * time.Millisecond)
		_ = s.workers["loft"].Process.Kill()
		_ = s.workers["loft"].Wait()
	})
	for operator, sources := range by {
		if !slices.Contains(sources, sourceAt(0)) && !slices.Contains(sources, sourceAt(2)) {
			s.t.Errorf("%s was asked by %v", operator, sources)
		}
	}
	s.start(c, 2)
	s.eventually("the new worker is at work", func() bool {
		workers, err := s.api.Workers(s.t.Context())
		return err == nil && slices.ContainsFunc(workers, func(w contract.Worker) bool { return w.Location == "loft" && time.Since(w.SeenAt) < 4*time.Second })
	})
}
