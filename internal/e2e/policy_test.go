package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// generatedPolicies is how many policies are made up.
const generatedPolicies = 200

// TestPolicies holds what is said about made-up policies against the rows that
// are exported under them, and saves, tries and changes policies.
func TestPolicies(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	_, content := writeList(t, i.World, 300)
	r := start(t, api, content)
	r, err := api.Wait(t.Context(), r.ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}

	t.Run("generated", func(t *testing.T) {
		g := generator{rand.New(rand.NewPCG(5, 7)), domainsOf(t, api, r.ID)}
		byRow := 0
		for n := range generatedPolicies {
			p := g.policy()
			if !p.ByVerdict(0) {
				byRow++
			}
			if _, err := api.SavePolicy(t.Context(), contract.PolicyOf(p)); err != nil {
				t.Fatalf("%+v: %v", p, err)
			}
			agrees(t, api, r, p)
			if t.Failed() {
				t.Fatalf("policy %d: %+v", n, p)
			}
		}
		if byRow < generatedPolicies/4 {
			t.Errorf("only %d of %d policies look at rows", byRow, generatedPolicies)
		}
	})
	t.Run("results by every filter", func(t *testing.T) {
		all := allResults(t, api, r.ID)
		for name, of := range map[string]func(contract.Result) string{
			"finding": func(x contract.Result) string { return string(x.Finding) }, "cause": func(x contract.Result) string { return string(x.Cause) },
			"domain": func(x contract.Result) string { return x.Domain }, "search": func(x contract.Result) string { return x.Typed },
			"decision": func(x contract.Result) string { return string(x.Decision) },
		} {
			for _, like := range []contract.Result{all[0], all[len(all)/2], all[len(all)-1]} {
				value, want := of(like), 0
				for _, x := range all {
					if of(x) == value {
						want++
					}
				}
				got, err := api.AllResults(t.Context(), r.ID, url.Values{name: {value}})
				if err != nil || value != "" && len(got) != want {
					t.Errorf("%s %q: %v: %d results, want %d", name, value, err, len(got), want)
				}
			}
		}
		e, err := api.Evidence(t.Context(), r.ID, all[0].Ordinal)
		if err != nil || e.Operator == "" {
			t.Fatalf("%v: %+v", err, e)
		}
		got, err := api.AllResults(t.Context(), r.ID, url.Values{"operator": {e.Operator}})
		if err != nil || len(got) == 0 || got[0].Ordinal != all[0].Ordinal {
			t.Errorf("by operator %s: %v: %d results", e.Operator, err, len(got))
		}
	})
	t.Run("versions", func(t *testing.T) {
		p := policy.Policy{Name: "spring", Rules: []policy.Rule{{Do: policy.Keep, Findings: []finding.Finding{finding.Deliverable}}}}
		saved, err := api.SavePolicy(t.Context(), contract.PolicyOf(p))
		if err != nil || saved.Version != 1 {
			t.Fatalf("%v: %+v", err, saved)
		}
		if saved, err = api.SavePolicy(t.Context(), contract.PolicyOf(p)); err != nil || saved.Version != 1 {
			t.Errorf("saved as it was: %v: version %d", err, saved.Version)
		}
		used, err := api.Decide(t.Context(), r.ID, "spring")
		if err != nil || used.Policy != "spring" || used.Version != 1 || used.Kept == r.Kept {
			t.Errorf("%v: %s %d keeps %d, as before", err, used.Policy, used.Version, used.Kept)
		}
		p.Otherwise = policy.Keep
		if saved, err = api.SavePolicy(t.Context(), contract.PolicyOf(p)); err != nil || saved.Version != 2 {
			t.Errorf("changed: %v: version %d", err, saved.Version)
		}
		if now, err := api.Run(t.Context(), r.ID); err != nil || now.Version != 1 || now.Kept != used.Kept {
			t.Errorf("the run did not keep its version: %v: %d keeps %d", err, now.Version, now.Kept)
		}
		trial, err := api.TryPolicy(t.Context(), r.ID, contract.PolicyOf(p))
		if err != nil || len(trial.Rules) != 2 || trial.Rules[1].Decision != policy.Keep || trial.Rules[0].Rows+trial.Rules[1].Rows > r.Rows {
			t.Errorf("%v: %+v", err, trial)
		}
		if err := api.DeletePolicy(t.Context(), "spring"); err != nil {
			t.Error(err)
		}
		if now, err := api.Run(t.Context(), r.ID); err != nil || now.Kept != used.Kept {
			t.Errorf("with its policy deleted the run keeps %d: %v", now.Kept, err)
		}
	})
	t.Run("refused", func(t *testing.T) {
		for _, c := range []struct {
			p    policy.Policy
			says string
		}{
			{policy.Policy{Name: "careful", Rules: []policy.Rule{}}, "ready-made policy, which stays as it is"},
			{policy.Policy{Name: "spring", Rules: []policy.Rule{{Do: policy.Keep, Column: "Branch"}}}, "Rule 1: the column \"Branch\" is named without values"},
		} {
			if _, err := api.SavePolicy(t.Context(), contract.PolicyOf(c.p)); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%+v: %v", c.p, err)
			}
		}
		if _, err := api.Decide(t.Context(), r.ID, "winter"); status(err) != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), "There is no policy named \"winter\"; there is: careful") {
			t.Error(err)
		}
	})
	t.Run("by the command line", func(t *testing.T) {
		file := filepath.Join(t.TempDir(), "branch-only.json")
		if err := os.WriteFile(file, []byte(`{"rules": [{"do": "keep", "column": "Branch", "values": ["upper loam"]}]}`), 0o600); err != nil {
			t.Fatal(err)
		}
		for _, c := range []struct {
			says string
			args []string
		}{
			{"Keep: addresses with “upper loam” in the column “Branch”.", []string{"save", "-file", file}},
			{"drop      that no rule of the policy matches", []string{"try", fmt.Sprint(r.ID), "-file", file}},
			{"will be kept. Left out:", []string{"use", fmt.Sprint(r.ID), "branch-only"}},
			{`"column": "Branch"`, []string{"show", "branch-only"}},
			{"branch-only (your own, version 1)", nil},
		} {
			text, err := testkit.Command(s.Env, append([]string{"policies"}, c.args...)...).CombinedOutput()
			if err != nil || !strings.Contains(string(text), c.says) {
				t.Errorf("%q: %v: %s", c.args, err, text)
			}
		}
	})
}

// agrees takes all rows out under a saved policy and counts them by what stands
// in their result columns.
func agrees(t *testing.T, api *client.Client, r contract.Run, p policy.Policy) {
	t.Helper()
	said, err := api.ExportPreview(t.Context(), r.ID, contract.ExportChoice{Policy: p.Name})
	if err != nil {
		t.Fatal(err)
	}
	rows := func(how contract.ExportChoice) [][]string {
		how.Policy = p.Name
		var b bytes.Buffer
		if err := api.ExportFile(t.Context(), r.ID, how, &b); err != nil {
			t.Fatal(err)
		}
		in := csv.NewReader(&b)
		in.FieldsPerRecord = -1
		all, err := in.ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		return all[1:]
	}
	counted := policy.Tally{}
	for _, row := range rows(contract.ExportChoice{Decision: "all", Form: "results", Columns: []string{"decision", "reason"}}) {
		counted[policy.Ruling{Decision: policy.Decision(row[3]), Reason: row[4]}]++
	}
	for i := range said.Counts {
		said.Counts[i].Code = "" // which no column of the file tells
	}
	if got, want := fmt.Sprint(said.Counts), fmt.Sprint(counted.Counts()); got != want {
		t.Errorf("said %s, exported %s", got, want)
	}
	kept := int64(len(rows(contract.ExportChoice{})))
	if kept != said.Rows || said.Sentence != counted.Sentence(policy.Keep) {
		t.Errorf("said %d rows, exported %d: %s", said.Rows, kept, said.Sentence)
	}
}

func domainsOf(t *testing.T, api *client.Client, run int64) (out []string) {
	t.Helper()
	for _, r := range allResults(t, api, run) {
		if r.Domain != "" {
			out = append(out, r.Domain)
		}
	}
	return out
}

// generator makes policies up.
type generator struct {
	*rand.Rand
	domains []string
}

func some[T any](g generator, from []T) (out []T) {
	for range 1 + g.IntN(3) {
		out = append(out, from[g.IntN(len(from))])
	}
	return out
}

func (g generator) policy() policy.Policy {
	p := policy.Policy{Name: "made-up", Otherwise: policy.Decisions()[g.IntN(3)]}
	for range 1 + g.IntN(7) {
		p.Rules = append(p.Rules, g.rule())
	}
	return p
}

func (g generator) rule() policy.Rule {
	r := policy.Rule{Do: policy.Decisions()[g.IntN(3)]}
	for r.Findings == nil && r.Causes == nil && r.Traits == nil && r.OddsFrom == 0 && r.Domains == nil && r.Column == "" {
		if g.IntN(2) == 0 {
			r.Findings = some(g, finding.Findings())
		}
		if g.IntN(5) == 0 {
			for _, c := range some(g, finding.Causes()) {
				r.Causes = append(r.Causes, c.Code)
			}
		}
		if g.IntN(4) == 0 {
			for _, x := range some(g, finding.TraitInfos()) {
				r.Traits = append(r.Traits, x.Code)
			}
		}
		if g.IntN(5) == 0 {
			r.OddsFrom = float64(1+g.IntN(98)) / 100
		}
		if g.IntN(8) == 0 {
			r.Domains = some(g, g.domains)
		}
		if g.IntN(10) == 0 {
			r.Column, r.Values = "Branch", some(g, []string{"Fernhollow", "upper LOAM", "*mill", "", "Saltmarsh*"})
		}
	}
	if g.IntN(20) == 0 {
		r.Operators = some(g, g.domains)
	}
	return r
}
