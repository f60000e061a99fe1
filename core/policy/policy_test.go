package policy

import (
	"testing"

	"varnet/core/finding"
)

func TestCareful(t *testing.T) {
	p := Careful()
	for _, c := range []struct {
		f      finding.Finding
		traits finding.Traits
		want   Decision
		reason string
	}{
		{finding.Deliverable, nil, Keep, "deliverable"},
		{finding.Deliverable, finding.Traits{finding.TraitFreeMail, finding.TraitTagged}, Keep, "deliverable"},
		{finding.Deliverable, finding.Traits{finding.TraitRole}, Hold, "role addresses"},
		{finding.Deliverable, finding.Traits{finding.TraitDisposable, finding.TraitRole}, Drop, "disposable addresses"},
		{finding.Deliverable, finding.Traits{finding.TraitTrapListed}, Drop, "listed traps"},
		{finding.CatchAll, nil, Hold, "catch-all"},
		{finding.CatchAll, finding.Traits{finding.TraitNoReply}, Drop, "no-reply addresses"},
		{finding.Undecided, finding.Traits{finding.TraitRole}, Hold, "undecided"},
		{finding.Undeliverable, finding.Traits{finding.TraitRole}, Drop, "undeliverable"},
	} {
		got := p.Decide(finding.Verdict{Finding: c.f, Traits: c.traits})
		if got.Decision != c.want || got.Reason != c.reason {
			t.Errorf("%s %v: %v, want %s because %s", c.f, c.traits, got, c.want, c.reason)
		}
	}
	if got := (Policy{}).Decide(finding.Verdict{Finding: finding.Deliverable}); got.Decision != Drop {
		t.Errorf("without a rule: %v", got)
	}
	if _, err := Named("lax"); err == nil {
		t.Error("an unknown policy was taken")
	}
}

func TestSentence(t *testing.T) {
	tally := Tally{
		{Keep, "deliverable"}: 8412, {Drop, "undeliverable"}: 1102, {Hold, "catch-all"}: 391, {Hold, "undecided"}: 95, {Drop, "disposable addresses"}: 0,
	}
	for d, want := range map[Decision]string{
		Keep: "8,412 of 10,000 rows will be kept. Left out: 391 catch-all, 95 undecided, 1,102 undeliverable.",
		Hold: "486 of 10,000 rows will be held. Left out: 8,412 deliverable, 1,102 undeliverable.",
	} {
		if got := tally.Sentence(d); got != want {
			t.Errorf("%s: %s", d, got)
		}
	}
	if got := (Tally{{Keep, "deliverable"}: 1}).Sentence(Keep); got != "1 of 1 row will be kept." {
		t.Error(got)
	}
}

func TestNumber(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1500: "-1,500"} {
		if got := Number(n); got != want {
			t.Errorf("%d: %s", n, got)
		}
	}
}

func TestReadyPolicies(t *testing.T) {
	v := func(f finding.Finding, odds float64, traits ...finding.Trait) finding.Verdict {
		return finding.Verdict{Finding: f, Odds: odds, Traits: traits}
	}
	for _, c := range []struct {
		v    finding.Verdict
		want map[string]Decision
	}{
		{v(finding.Deliverable, 0.99), map[string]Decision{"careful": Keep, "reach-further": Keep, "strict": Keep}},
		{v(finding.CatchAll, 0.55), map[string]Decision{"careful": Hold, "reach-further": Keep, "strict": Drop}},
		{v(finding.CatchAll, 0.33, finding.TraitRandomLooking), map[string]Decision{"careful": Hold, "reach-further": Hold, "strict": Drop}},
		{v(finding.CatchAll, 0.55, finding.TraitRole), map[string]Decision{"careful": Hold, "reach-further": Hold, "strict": Drop}},
		{v(finding.Deliverable, 0.99, finding.TraitFreeMail), map[string]Decision{"careful": Keep, "reach-further": Keep, "strict": Drop}},
		{v(finding.Deliverable, 0.99, finding.TraitTrapRevived), map[string]Decision{"careful": Drop, "reach-further": Drop, "strict": Drop}},
	} {
		for _, p := range Ready() {
			if got := p.Decide(c.v).Decision; got != c.want[p.Name] {
				t.Errorf("%s, %+v: %s, want %s", p.Name, c.v, got, c.want[p.Name])
			}
		}
	}
	says := ReachFurther().Says()
	if len(says) != 5 || says[2] != "Of the rest keep: catch-all with odds of 50 in 100 or more." || says[4] != "Of the rest keep: deliverable." {
		t.Errorf("it says %q", says)
	}
}
