package contract_test

import (
	"net/url"
	"strings"
	"testing"

	"varnet/core/finding"
	"varnet/internal/contract"
)

func verdict(c finding.Cause, traits ...finding.Trait) finding.Verdict {
	return finding.ConcludeFrom(c, traits)
}

// TestFilterFits holds filters against verdicts: each part narrows, all together.
func TestFilterFits(t *testing.T) {
	role := verdict(finding.MailboxAccepted, finding.TraitRole)
	for _, c := range []struct {
		filter contract.Filter
		fits   bool
	}{
		{contract.Filter{}, true},
		{contract.Filter{Finding: "deliverable"}, true},
		{contract.Filter{Finding: "undeliverable"}, false},
		{contract.Filter{Cause: "mailbox.accepted", Stage: "mailbox"}, true},
		{contract.Filter{Cause: "mailbox.accepted", Stage: "domain"}, false},
		{contract.Filter{Trait: "role"}, true},
		{contract.Filter{Trait: "tagged"}, false},
		{contract.Filter{OddsFrom: 0.5}, true},
		{contract.Filter{OddsBelow: 0.5}, false},
		{contract.Filter{Finding: "deliverable", Trait: "disposable"}, false},
		{contract.Filter{Domain: "rye.example", Operator: "millrace.example", Search: "x"}, true}, // not of the verdict
	} {
		if got := c.filter.Fits(role); got != c.fits {
			t.Errorf("%+v fits: %v", c.filter, got)
		}
	}
	if (contract.Filter{Search: "x"}).AnyVerdict() != true || (contract.Filter{OddsBelow: 0.2}).AnyVerdict() {
		t.Error("whether a filter looks at verdicts is told wrongly")
	}
}

// TestFilterSays: what a filter chooses reads as the end of a sentence, with the
// words of the registry and never its codes.
func TestFilterSays(t *testing.T) {
	for want, f := range map[string]contract.Filter{
		"": {},
		"with the finding catch-all, at rye.example":                              {Finding: "catch-all", Domain: "rye.example"},
		"with odds of 30 in 100 or more, with odds under 70 in 100":               {OddsFrom: 0.3, OddsBelow: 0.7},
		"whose mail hosts are run by millrace.example, with “a%b” in the address": {Operator: "millrace.example", Search: "a%b"},
	} {
		if got := f.Says(); got != want {
			t.Errorf("%+v says %q; want %q", f, got, want)
		}
	}
	for _, info := range finding.Causes() {
		if says := (contract.Filter{Cause: string(info.Code)}).Says(); !strings.Contains(says, info.Title) || strings.Contains(says, string(info.Code)) {
			t.Errorf("%s is said as %q", info.Code, says)
		}
	}
	if says := (contract.Filter{Cause: "mailbox.enchanted"}).Says(); says != "" {
		t.Errorf("an unknown cause is said as %q", says)
	}
}

// TestAskAgainFits: without a choice it is all for which asking again may help; with
// one, what is chosen alone.
func TestAskAgainFits(t *testing.T) {
	all := contract.AskAgain{}
	for _, info := range finding.Causes() {
		v := verdict(info.Code)
		if v.Finding == finding.Undecided && all.Fits(v) != info.AskAgain {
			t.Errorf("%s: asked again without a choice: %v", info.Code, all.Fits(v))
		}
	}
	chosen := contract.AskAgain{Causes: []finding.Cause{finding.MailboxAbsent}}
	if !chosen.Fits(verdict(finding.MailboxAbsent)) || chosen.Fits(verdict(finding.ExchangerPostponed)) {
		t.Error("a chosen cause is not what is asked again")
	}
	found := contract.AskAgain{Findings: []finding.Finding{finding.Deliverable}}
	if !found.Fits(verdict(finding.MailboxAccepted)) || found.Fits(verdict(finding.MailboxAbsent)) {
		t.Error("a chosen finding is not what is asked again")
	}
}

// TestQuery: a query holds what was set and nothing else, under the names that the
// service reads.
func TestQuery(t *testing.T) {
	for _, c := range []struct {
		what any
		want url.Values
	}{
		{contract.ExportChoice{}, url.Values{}},
		{contract.ExportChoice{Decision: "hold", Columns: []string{"finding", "cause"}, Semicolons: true, After: 3, Filter: contract.Filter{Finding: "catch-all", OddsFrom: 0.25}},
			url.Values{"decision": {"hold"}, "columns": {"finding,cause"}, "semicolons": {"true"}, "after": {"3"}, "finding": {"catch-all"}, "oddsFrom": {"0.25"}}},
		{contract.ExportChoice{Ordinals: []int32{4, 7}}, url.Values{"ordinals": {"4,7"}}},
		{contract.Filter{Search: "a&b=c d"}, url.Values{"search": {"a&b=c d"}}},
	} {
		if got := contract.Query(c.what); got.Encode() != c.want.Encode() {
			t.Errorf("%+v is asked as %s; want %s", c.what, got.Encode(), c.want.Encode())
		}
	}
}

// TestAskAgainCheck: a slip of the pen is told, not taken for a choice of none.
func TestAskAgainCheck(t *testing.T) {
	for says, a := range map[string]contract.AskAgain{
		"":                                  {Findings: finding.Findings(), Causes: []finding.Cause{finding.MailboxAbsent}},
		`there is no finding "doubtful"`:    {Findings: []finding.Finding{finding.Undecided, "doubtful"}},
		`there is no cause "mailbox.moody"`: {Causes: []finding.Cause{"mailbox.moody"}},
	} {
		if err := a.Check(); (err == nil) != (says == "") || err != nil && err.Error() != says {
			t.Errorf("%+v: %v, want %q", a, err, says)
		}
	}
}
