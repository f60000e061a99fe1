package e2e

import (
	"net/http"
	"strings"
	"testing"

	"varnet/core/finding"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestOwnRules: a workspace's rules hold for what it starts and checks, and for nobody else;
// they ask less far than those for all, never farther.
func TestOwnRules(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	settings := testkit.Settings(testkit.Database(t), i)
	s := testkit.Serve(t, settings)
	made, err := testkit.Command(settings, "key", "new", "-workspace", "the neighbours").Output()
	if err != nil {
		t.Fatal(err)
	}
	ours, theirs, ctx := client.New(s.URL, s.Key), client.New(s.URL, strings.TrimSpace(string(made))), t.Context()
	if _, err := ours.SetRules(ctx, []contract.Rule{{Of: "domain", Pattern: "sundial-nursery.example", Depth: "syntax"}}); err != nil {
		t.Fatal(err)
	}
	said, err := ours.SetOwnRules(ctx, []contract.Rule{{Of: "domain", Pattern: "fernhollow.example", Depth: "never", Note: "our own people"}, {Of: "domain", Pattern: "sundial-nursery.example", Depth: "domain"}})
	if err != nil || len(said) != 2 || said[0].Says != "Addresses at fernhollow.example are never asked about." {
		t.Errorf("%+v, %v", said, err)
	}
	cause := func(api *client.Client, address string) finding.Cause {
		t.Helper()
		got, err := api.Check(ctx, []string{address})
		if err != nil || len(got) != 1 {
			t.Fatalf("%+v, %v", got, err)
		}
		return got[0].Cause
	}
	const at, nursery = "nobody.atall@fernhollow.example", "anybody@sundial-nursery.example"
	if got := cause(ours, at); got != finding.RuleSkipped {
		t.Errorf("ours: %s", got)
	}
	if got := cause(theirs, at); got != finding.MailboxAbsent {
		t.Errorf("theirs: %s", got)
	}
	if got := cause(ours, nursery); got != finding.RuleDepth {
		t.Errorf("with a rule for all that asks less far: %s", got)
	}
	_, run := startNamed(t, ours, "members.csv", []byte("e-mail\n"+at+"\nsomebody@postbarn.example\n"), "mailbox")
	r, err := ours.Wait(ctx, run.ID, func(contract.Run) {})
	if err != nil || !hasCause(r, finding.RuleSkipped, 1) {
		t.Errorf("%+v, %v", r.Causes, err)
	}
	for what, rules := range map[string][]contract.Rule{"how and when hosts are asked is set for the installation": {{Of: "operator", Pattern: "postbarn.example", Lanes: 20}}, "changes nothing": {{Of: "domain", Pattern: "x.example"}}} {
		if _, err := theirs.SetOwnRules(ctx, rules); status(err) != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if got, err := theirs.OwnRules(ctx); err != nil || len(got) != 0 {
		t.Errorf("theirs are %+v, %v", got, err)
	}
}

// hasCause reports whether a run concluded so many addresses with a cause.
func hasCause(r contract.Run, cause finding.Cause, n int64) bool {
	for _, c := range r.Causes {
		if c.Cause == cause {
			return c.Addresses == n
		}
	}
	return false
}
