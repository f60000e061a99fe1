package policy

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

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
		got := p.Decide(Row{Verdict: finding.Verdict{Finding: c.f, Traits: c.traits}})
		if got.Decision != c.want || got.Reason != c.reason {
			t.Errorf("%s %v: %v, want %s because %s", c.f, c.traits, got, c.want, c.reason)
		}
	}
	if got := (Policy{}).Decide(Row{Verdict: finding.Verdict{Finding: finding.Deliverable}}); got.Decision != Drop {
		t.Errorf("without a rule: %v", got)
	}
	if _, err := Named("lax"); err == nil {
		t.Error("an unknown policy was taken")
	}
}

func TestSentence(t *testing.T) {
	tally := Tally{
		{Keep, ByRule, "deliverable"}: 8412, {Drop, ByRule, "undeliverable"}: 1102, {Hold, ByRule, "catch-all"}: 391, {Hold, ByRule, "undecided"}: 95, {Drop, ByRule, "disposable addresses"}: 0,
	}
	for d, want := range map[Decision]string{
		Keep: "8,412 of 10,000 rows will be kept. Left out: 391 catch-all, 95 undecided, 1,102 undeliverable.",
		Hold: "486 of 10,000 rows will be held. Left out: 8,412 deliverable, 1,102 undeliverable.",
	} {
		if got := tally.Sentence(d); got != want {
			t.Errorf("%s: %s", d, got)
		}
	}
	if got := (Tally{{Keep, ByRule, "deliverable"}: 1}).Sentence(Keep); got != "1 of 1 row will be kept." {
		t.Error(got)
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
			if got := p.Decide(Row{Verdict: c.v}).Decision; got != c.want[p.Name] {
				t.Errorf("%s, %+v: %s, want %s", p.Name, c.v, got, c.want[p.Name])
			}
		}
	}
	for _, p := range Ready() {
		if got := p.Decide(Row{Verdict: finding.ConcludeFrom(finding.MailboxSettled, nil)}).Decision; got != Keep {
			t.Errorf("%s rules %s on a settled address", p.Name, got)
		}
	}
	says := ReachFurther().Says()
	if len(says) != 6 || says[2] != "Of the rest keep: addresses for the cause “No bounce after a message”, catch-all with odds of 50 in 100 or more." || says[4] != "Of the rest keep: deliverable." || says[5] != "Of the rest drop: whatever is left." {
		t.Errorf("it says %q", says)
	}
}

// TestRules holds each kind of condition against rows that just fit and that
// just do not, and reads its reason.
func TestRules(t *testing.T) {
	row := Row{Verdict: finding.Verdict{Finding: finding.CatchAll, Cause: "mailbox.any-accepted", Odds: 0.5, Traits: finding.Traits{finding.TraitRole}},
		Domain: "upperloam.example", Operator: "postbarn.example", Age: 10 * 24 * time.Hour,
		Cell: func(column string) string { return map[string]string{"Status": " Left "}[column] }}
	for _, c := range []struct {
		rule   string
		fits   bool
		reason string
	}{
		{`{}`, true, "all others"},
		{`{"findings": ["catch-all", "undecided"]}`, true, "catch-all or undecided"},
		{`{"findings": ["undecided"]}`, false, "undecided"},
		{`{"findings": ["catch-all"], "traits": ["role"]}`, true, "catch-all role addresses"},
		{`{"traits": ["free-mail", "role"]}`, true, "free-mail addresses or role addresses"},
		{`{"causes": ["mailbox.full"]}`, false, "addresses for the cause “Mailbox full”"},
		{`{"oddsFrom": 0.5}`, true, "addresses with odds of 50 in 100 or more"},
		{`{"oddsBelow": 0.5}`, false, "addresses with odds under 50 in 100"},
		{`{"oddsFrom": 0.4, "oddsBelow": 0.51}`, true, "addresses with odds from 40 to under 51 in 100"},
		{`{"domains": ["*loam.example"]}`, true, "addresses at *loam.example"},
		{`{"domains": ["loam.example"]}`, false, "addresses at loam.example"},
		{`{"operators": ["Postbarn.example"]}`, true, "addresses run by Postbarn.example"},
		{`{"column": "Status", "values": ["left", "moved"]}`, true, "addresses with “left” or “moved” in the column “Status”"},
		{`{"column": "Notes", "values": [""]}`, true, "addresses with nothing in the column “Notes”"},
		{`{"column": "Notes", "values": ["?*"]}`, false, "addresses with “?*” in the column “Notes”"},
		{`{"olderThan": 10}`, false, "addresses checked more than 10 days ago"},
		{`{"olderThan": 9}`, true, "addresses checked more than 9 days ago"},
		{`{"domains": ["a.example", "b.example", "c.example", "d.example", "e.example"]}`, false, "addresses at a.example, b.example, c.example, d.example or 1 more"},
	} {
		r := Rule{Do: Keep}
		if err := json.Unmarshal([]byte(c.rule), &r); err != nil {
			t.Fatal(err)
		}
		p := Policy{Name: "own", Rules: []Rule{r}, Otherwise: Hold}
		if err := p.Check(); err != nil {
			t.Errorf("%s: %v", c.rule, err)
		}
		if got := p.Decide(row).Decision == Keep; got != c.fits || p.Ruling(0).Reason != c.reason {
			t.Errorf("%s: fits %v, %q", c.rule, got, p.Ruling(0).Reason)
		}
	}
	if !Strict().ByVerdict(time.Hour) || Strict().ByVerdict(31*24*time.Hour) || (Policy{Rules: []Rule{{Domains: []string{"a"}}}}).ByVerdict(0) {
		t.Error("whether verdicts decide alone is told wrongly")
	}
}

func TestWrongPolicies(t *testing.T) {
	for body, says := range map[string]string{
		`{"name": "My policy"}`:                                                               "is not a name for a policy",
		`{"name": "p", "rules": [{}]}`:                                                        `rule 1: do is ""`,
		`{"name": "p", "rules": [{"do": "keep", "findings": ["good"]}]}`:                      `no finding "good"; there is: deliverable`,
		`{"name": "p", "rules": [{"do": "keep", "causes": ["mailbox.odd"]}]}`:                 `no cause "mailbox.odd"`,
		`{"name": "p", "rules": [{"do": "keep", "traits": ["nice"]}]}`:                        `no trait "nice"; there is: role`,
		`{"name": "p", "rules": [{"do": "keep", "oddsFrom": 0.6, "oddsBelow": 0.5}]}`:         "it matches nothing",
		`{"name": "p", "rules": [{"do": "keep", "column": "Status"}]}`:                        "named without values",
		`{"name": "p", "rules": [{"do": "keep", "values": ["x"]}]}`:                           "no column that holds them",
		`{"name": "p", "rules": [{"do": "keep"}, {"do": "drop", "findings": ["undecided"]}]}`: "rule 2 is never reached",
		`{"name": "p", "rules": [{"do": "keep", "domains": [" "]}]}`:                          "is not the name of a domain",
		`{"name": "p", "otherwise": "lose"}`:                                                  "use keep, hold or drop",
	} {
		var p Policy
		if err := json.Unmarshal([]byte(body), &p); err != nil {
			t.Fatal(err)
		}
		if err := p.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", body, err)
		}
	}
}

func TestActivityAndOpinions(t *testing.T) {
	p := Policy{Name: "both", Rules: []Rule{{Do: Keep, ActiveWithin: 90, OpinionOf: "Seedcheck", Opinions: []finding.Finding{finding.Deliverable}}, {Do: Drop, InactiveFor: 365}}, Otherwise: Hold}
	if err := p.Check(); err != nil || p.ByVerdict(0) {
		t.Error(err, p.ByVerdict(0))
	}
	said := func(f finding.Finding) func(string) finding.Finding {
		return func(name string) finding.Finding {
			if name != "Seedcheck" {
				return ""
			}
			return f
		}
	}
	for _, c := range []struct {
		inactive time.Duration
		opinion  func(string) finding.Finding
		want     Decision
	}{
		{days(10), said(finding.Deliverable), Keep}, {days(90), said(finding.Deliverable), Keep}, {days(91), said(finding.Deliverable), Hold}, {days(10), said(finding.CatchAll), Hold},
		{days(10), nil, Hold}, {days(365), said(finding.Deliverable), Hold}, {days(366), said(finding.Deliverable), Drop}, {-1, said(finding.Deliverable), Drop},
	} {
		if got := p.Decide(Row{Inactive: c.inactive, Opinion: c.opinion}).Decision; got != c.want {
			t.Errorf("inactive for %v: %s, want %s", c.inactive, got, c.want)
		}
	}
	if got := p.Ruling(0).Reason; got != "addresses active in the last 90 days that “Seedcheck” found deliverable" {
		t.Error(got)
	}
	for _, wrong := range []Rule{{Do: Keep, ActiveWithin: -1}, {Do: Keep, ActiveWithin: 30, InactiveFor: 30}, {Do: Keep, Opinions: []finding.Finding{finding.Deliverable}}, {Do: Keep, OpinionOf: "Seedcheck"},
		{Do: Keep, OpinionOf: "Seedcheck", Opinions: []finding.Finding{"perfect"}}} {
		if (Policy{Name: "x", Rules: []Rule{wrong}}).Check() == nil {
			t.Errorf("%+v is taken", wrong)
		}
	}
}
