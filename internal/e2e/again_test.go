package e2e

import (
	"context"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestAskAgain asks again about chosen addresses of a finished run: their
// results stand until they are replaced, the others are left alone, and a
// mailbox that was absent long ago and is accepted now is found out.
func TestAskAgain(t *testing.T) {
	t.Parallel()
	i, dsn := testkit.World(t, "fernhollow"), testkit.Database(t)
	s := testkit.Serve(t, testkit.Settings(dsn, i))
	api, ctx := client.New(s.URL, s.Key), context.Background()
	_, content := writeList(t, i.World, 400)
	run := start(t, api, content)
	if _, err := api.AskAgain(ctx, run.ID, contract.AskAgain{}); status(err) != http.StatusConflict {
		t.Errorf("while the run is on its way: %v", err)
	}
	wait := func() contract.Run {
		t.Helper()
		r, err := api.Wait(ctx, run.ID, func(contract.Run) {})
		if err != nil || r.State != "finished" || r.Done != r.Addresses || r.Again != 0 {
			t.Fatalf("%v: %+v", err, r)
		}
		return r
	}
	before := wait()
	results := func(cause finding.Cause) []contract.Result {
		t.Helper()
		r, err := api.AllResults(ctx, run.ID, url.Values{"cause": {string(cause)}})
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	asked := func(address int32) int {
		t.Helper()
		e, err := api.Evidence(ctx, run.ID, address)
		if err != nil {
			t.Fatal(err)
		}
		return len(e.Asked)
	}

	t.Run("what it may help", func(t *testing.T) {
		open, settled := results(finding.ExchangerUnavailable), results(finding.MailboxAccepted)[0]
		times, settledTimes := asked(open[0].Ordinal), asked(settled.Ordinal)
		r, err := api.AskAgain(ctx, run.ID, contract.AskAgain{})
		if err != nil || r.FinishedAt != nil || r.Again != before.MayAsk || r.Done != r.Addresses || !strings.Contains(r.Sentence, "are asked again") {
			t.Fatalf("%v: %+v", err, r)
		}
		after := wait()
		if !slices.Equal(after.Causes, before.Causes) {
			t.Errorf("the world is the same, and yet %v is now %v", before.Causes, after.Causes)
		}
		if n := asked(open[0].Ordinal); n <= times {
			t.Errorf("%s was asked %d times before and %d times now", open[0].Typed, times, n)
		}
		if n := asked(settled.Ordinal); n != settledTimes {
			t.Errorf("%s was asked %d times, now %d, though nobody wanted to know", settled.Typed, settledTimes, n)
		}
	})
	t.Run("a mailbox absent half a year ago", func(t *testing.T) {
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = conn.Close(ctx) }()
		accepted := results(finding.MailboxAccepted)
		old, recent := accepted[0], accepted[1]
		for mailbox, age := range map[string]string{old.Mailbox: "7 months", recent.Mailbox: "5 months"} {
			if _, err := conn.Exec(ctx, `INSERT INTO absence SELECT id, sha256(convert_to(lower($1), 'UTF8')), now() - $2::text::interval FROM workspace`, mailbox, age); err != nil {
				t.Fatal(err)
			}
		}
		text, err := testkit.Command(s.Env, "runs", "again", "1", "-cause", "mailbox.accepted").CombinedOutput()
		if err != nil || !strings.Contains(string(text), "rows will be kept") {
			t.Fatalf("%v: %s", err, text)
		}
		for _, r := range results(finding.MailboxAccepted) {
			revived := slices.Contains(r.Traits, finding.TraitTrapRevived)
			if revived != (r.Ordinal == old.Ordinal) || revived && r.Decision != policy.Drop {
				t.Errorf("%s: %v, %s", r.Typed, r.Traits, r.Decision)
			}
		}
		if e, err := api.Check(ctx, []string{old.Typed}); err != nil || !slices.Contains(e[0].Traits, finding.TraitTrapRevived) {
			t.Errorf("%v: checked alone: %v", err, e)
		}
	})
	t.Run("there is nothing of that kind", func(t *testing.T) {
		_, err := api.AskAgain(ctx, run.ID, contract.AskAgain{Causes: []finding.Cause{"exchanger.garbled"}})
		if status(err) != http.StatusUnprocessableEntity {
			t.Errorf("got %v", err)
		}
		wait()
	})
}
