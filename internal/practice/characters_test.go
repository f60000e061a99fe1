package practice

import (
	"slices"
	"testing"

	"varnet/core/finding"
	"varnet/core/probe"
)

// fewOfEach returns some addresses of each character, and some that nobody has.
func fewOfEach(w *World, each int) (cells []string) {
	for n, o := range w.Operators {
		some := each
		if o.Character == "accepts-by-chance" {
			some *= 6 // by few it cannot be told from a host that knows its mailboxes
		}
		for i := range some {
			local := Local(n*100 + i)
			if i%4 == 3 {
				local = "nobody" + local
			}
			cells = append(cells, local+"@"+o.Domains[i%len(o.Domains)])
		}
	}
	return cells
}

// TestEveryCharacter asks a few mailboxes of every character there is: what can be
// learnt is learnt, nothing wrong is, and a message to all that are deliverable
// arrives.
func TestEveryCharacter(t *testing.T) {
	t.Parallel()
	w, err := Generate(11)
	i := startMade(t, w, err)
	results := verify(t, i, fewOfEach(w, 8))
	lucky := holdTruth(t, i, results)
	var kept []string
	met := map[string]bool{}
	learnable, learnt := 0, 0
	for canonical, r := range results {
		truth := w.Truth(canonical)
		met[truth.Character] = true
		if truth.Learnable() {
			learnable++
			if r.Verdict.Finding != finding.Undecided {
				learnt++
			} else {
				t.Logf("%s (%s): %s", canonical, truth.Character, r.Verdict.Cause)
			}
		}
		if r.Verdict.Finding == finding.Deliverable && r.Domain != lucky {
			kept = append(kept, canonical)
		}
	}
	for _, c := range Characters() {
		if !met[c.Name] {
			t.Errorf("nobody was asked about at %s: %s", c.Name, c.Imitates)
		}
	}
	if learnt*100 < learnable*98 {
		t.Errorf("%d of the %d addresses that can be concluded were", learnt, learnable)
	}
	m, err := i.Send(kept)
	if err != nil || len(m.Bounced) > 0 || len(m.Delivered) < len(kept)*9/10 || len(kept) < 100 {
		t.Errorf("of %d messages %d arrived, %v bounced, %v found no host, %v", len(kept), len(m.Delivered), m.Bounced, m.Deferred, err)
	}
}

// TestRefusedEverywhere: where every host refuses us no mailbox is to blame.
func TestRefusedEverywhere(t *testing.T) {
	t.Parallel()
	for _, character := range []string{"blocks-us", "blocks-at-banner", "refuses-late-for-helo", "explains-once"} {
		t.Run(character, func(t *testing.T) {
			t.Parallel()
			w, err := Load("fernhollow")
			if err == nil {
				w, err = w.Everywhere(character)
			}
			i := startMade(t, w, err)
			for canonical, r := range verify(t, i, fewOfEach(w, 4)) {
				asked := w.Truth(canonical).Character == character
				if asked && (r.Verdict.Finding != finding.Undecided || r.Verdict.Cause != finding.ExchangerBlocksUs && character != "explains-once") {
					t.Errorf("%s is %s by %s: %s", canonical, r.Verdict.Finding, r.Verdict.Cause, said(r))
				}
			}
		})
	}
}

// said lists what the hosts answered about an address.
func said(r probe.Result) (out []string) {
	for _, a := range r.Asked {
		out = append(out, a.Reply+" ("+a.Why+")")
	}
	return slices.Clip(out)
}
