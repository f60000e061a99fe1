package practice

import (
	"bytes"
	"context"
	"encoding/csv"
	"net"
	"testing"
	"time"

	"varnet/core/address"
	"varnet/core/finding"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/smtp"
)

func startWorld(t *testing.T, name string) *Internet {
	t.Helper()
	w, err := Load(name)
	return startMade(t, w, err)
}

// startMade starts a world that was made, not read.
func startMade(t *testing.T, w *World, err error) *Internet {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	i, err := Start(w, "127.0.0.1:0", 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(i.Close)
	return i
}

func newProber(port int) *probe.Prober {
	p := probe.New(&net.Dialer{}, smtp.Identity{Name: "verify.fernhollow.example", Sender: "check@fernhollow.example"})
	p.Port = port
	p.Limits.Waits = p.Limits.Waits.All(2 * time.Second)
	return p
}

// verify brings a list through the core alone, with three rounds.
func verify(t *testing.T, i *Internet, cells []string) map[string]probe.Result {
	t.Helper()
	r, err := resolve.New([]string{i.DNS}, true)
	if err != nil {
		t.Fatal(err)
	}
	results := map[string]probe.Result{}
	domains := map[string]*probe.Domain{}
	for n, cell := range cells {
		a, err := address.Parse(cell)
		if err != nil {
			continue
		}
		if _, done := results[a.Canonical()]; done {
			continue
		}
		results[a.Canonical()] = probe.Result{}
		d, ok := domains[a.Domain]
		if !ok {
			found := r.Lookup(t.Context(), a.Domain)
			d = &probe.Domain{Name: a.Domain, Operator: found.Operator(), Exchangers: found.Exchangers}
			domains[a.Domain] = d
			if c, hopeless := found.Outcome.Cause(); hopeless {
				d.Operator = string(c)
			}
		}
		d.Questions = append(d.Questions, probe.Question{Ref: int64(n), Address: a})
	}
	var parcel probe.Parcel
	for _, d := range domains {
		if c, ok := finding.Lookup(finding.Cause(d.Operator)); ok {
			for _, q := range d.Questions {
				results[q.Address.Canonical()] = probe.Result{Question: q, Verdict: finding.ConcludeFrom(c.Code, nil)}
			}
			continue
		}
		parcel.Domains = append(parcel.Domains, *d)
	}
	p := newProber(i.Port)
	for round := 0; len(parcel.Domains) > 0; round++ {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		out := p.Probe(ctx, parcel)
		cancel()
		parcel = probe.Parcel{}
		again := map[string]*probe.Domain{}
		for _, x := range append(append(out.Results, out.Postponed...), out.Unasked...) {
			results[x.Address.Canonical()] = x
		}
		if round == 3 {
			break
		}
		time.Sleep(1500 * time.Millisecond)
		for _, x := range append(out.Postponed, out.Unasked...) {
			if !x.Patient() {
				continue
			}
			d, ok := again[x.Domain]
			if !ok {
				copied := *domains[x.Domain]
				copied.Questions = nil
				copied.Acceptances = out.Of(x.Domain)
				d = &copied
				again[x.Domain] = d
			}
			d.Questions = append(d.Questions, x.Question)
		}
		for _, d := range again {
			parcel.Domains = append(parcel.Domains, *d)
		}
	}
	return results
}

// TestFindingsAgainstTruth is the promise Varnet stands on: on the whole demo
// world no address that does not exist is deliverable, and none that exists is
// undeliverable.
func TestFindingsAgainstTruth(t *testing.T) {
	t.Parallel()
	i := startWorld(t, "fernhollow")
	var list bytes.Buffer
	if err := i.World.WriteList(&list, 1200); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&list).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	var cells []string
	for _, row := range rows[1:] {
		cells = append(cells, row[2])
	}
	holdTruth(t, i, verify(t, i, cells))
}

// holdTruth holds findings against the truth. Of the domains that take every other mailbox one
// may be believed, which is returned: it refuses all made-up ones once in 1,024 times.
func holdTruth(t *testing.T, i *Internet, results map[string]probe.Result) (lucky string) {
	t.Helper()
	type key struct {
		character string
		cause     finding.Cause
	}
	counts := map[key]int{}
	lucky = luckyDomain(i.World, results)
	for canonical, r := range results {
		truth := i.World.Truth(canonical)
		counts[key{truth.Character, r.Verdict.Cause}]++
		if r.Domain == lucky {
			continue
		}
		if r.Verdict.Finding == finding.Deliverable && !truth.Deliverable() {
			t.Errorf("%s (%s) is called deliverable, and is not: %+v", canonical, truth.Character, r.Asked)
		}
		if r.Verdict.Finding == finding.Undeliverable && truth.Deliverable() {
			t.Errorf("%s (%s) is called undeliverable (%s), and is not: %+v", canonical, truth.Character, r.Verdict.Cause, r.Asked)
		}
		if r.Verdict.Finding == finding.Deliverable && truth.AnyAccepted {
			t.Errorf("%s (%s) is called deliverable at a catch-all host", canonical, truth.Character)
		}
	}
	for k, n := range counts {
		t.Logf("%-18s %-24s %d", k.character, k.cause, n)
	}
	return lucky
}

// luckyDomain returns the domain that takes mailboxes by chance and is believed, "" where there is
// none, or more than chance explains.
func luckyDomain(w *World, results map[string]probe.Result) string {
	believed := map[string]bool{}
	for canonical, r := range results {
		if w.Truth(canonical).Character == "accepts-by-chance" && r.Verdict.Finding == finding.Deliverable {
			believed[r.Domain] = true
		}
	}
	if len(believed) > 1 {
		return ""
	}
	for domain := range believed {
		return domain
	}
	return ""
}
