package odds

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"varnet/core/naming"
	"varnet/core/odds"
	"varnet/internal/store"
	"varnet/internal/store/storetest"
)

// TestWorkspacesKeepApart: whatever workspaces observe, another one learns of a domain that is not its own
// from 20 addresses of three others that share on, in steps of five, and sees no address; and one that
// does not share learns from its own outcomes alone.
func TestWorkspacesKeepApart(t *testing.T) {
	ctx, rng := t.Context(), rand.New(rand.NewPCG(25, 2))
	s := storetest.Open(t)
	s.FingerprintBy(func() store.Fingerprints {
		return func(text string) []store.Fingerprint {
			sum := sha256.Sum256([]byte(text))
			return []store.Fingerprint{{Secret: []byte("one"), Sum: sum[:]}}
		}
	})
	if err := s.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	desk := &Odds{Store: s, Now: time.Now}
	domains := []string{"orchard.example", "attic.example", "mill.example", "barn.example"}
	for round := range 6 {
		var ids []int64
		shares := map[int64]bool{}
		sent := map[int64]map[string]int{}
		for n := range 5 {
			w, err := s.NewWorkspace(ctx, fmt.Sprintf("Team %d of round %d", n, round))
			if err != nil {
				t.Fatal(err)
			}
			ids, shares[w.ID], sent[w.ID] = append(ids, w.ID), rng.IntN(4) > 0, map[string]int{}
			if err := s.ShareOutcomes(ctx, w.ID, shares[w.ID]); err != nil {
				t.Fatal(err)
			}
			var observed []store.Observation
			for range rng.IntN(60) {
				d := domains[rng.IntN(len(domains))]
				local := fmt.Sprintf("wren.vale%d", rng.IntN(1_000_000))
				sent[w.ID][d]++
				observed = append(observed, store.Observation{Canonical: local + "@" + d, RunID: w.ID, Domain: d, Operator: "hosting.example", Prior: Prior, Said: Prior,
					Facts: odds.Facts{Pattern: naming.FirstDotLast, Named: true, Shape: naming.TwoWords}, Arrived: rng.IntN(2) == 0, SentAt: time.Now()})
			}
			if err := s.Observe(ctx, w.ID, observed); err != nil {
				t.Fatal(err)
			}
		}
		for _, id := range ids {
			if _, err := desk.Learn(ctx, id, true); err != nil {
				t.Fatal(err)
			}
			o, err := desk.Look(ctx, id)
			if err != nil {
				t.Fatal(err)
			}
			if text, _ := json.Marshal(o); strings.Contains(string(text), "wren") {
				t.Fatalf("an address shows: %s", text)
			}
			for _, d := range o.Domains {
				others, teams := 0, 0
				for _, other := range ids {
					if n := sent[other][d.Domain]; other != id && shares[other] && n > 0 {
						others, teams = others+n, teams+1
					}
				}
				more := d.Of - int64(sent[id][d.Domain])
				switch {
				case more == 0:
				case !shares[id], more < 0, more > int64(others), more%5 != 0:
					t.Fatalf("round %d: %+v, of which %d are its own; it shares: %v; others have %d in %d", round, d, sent[id][d.Domain], shares[id], others, teams)
				case others < 20 || teams < 3:
					t.Fatalf("%+v is told of %d addresses of %d workspaces", d, others, teams)
				}
			}
		}
		for _, id := range ids { // of the next round others are the others
			if err := s.ShareOutcomes(ctx, id, false); err != nil {
				t.Fatal(err)
			}
		}
	}
}
