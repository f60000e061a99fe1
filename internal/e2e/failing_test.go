package e2e

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestWorkThatKeepsFailing has the database take no results of a run for longer than a minute, as its clock tells: who looks
// after the installation is told once, sees what fails and why, and no job grows by its errors; once the cause is gone, the run
// comes to its end.
func TestWorkThatKeepsFailing(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	conn, err := pgx.Connect(t.Context(), s.Setting("VARNET_DSN"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	execute := func(sql string) int64 {
		t.Helper()
		tag, err := conn.Exec(t.Context(), sql)
		if err != nil {
			t.Fatal(err)
		}
		return tag.RowsAffected()
	}
	health := func() contract.ServiceHealth {
		t.Helper()
		h, err := api.Health(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return h
	}
	execute(`CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'no room is left'; END $$`)
	execute(`CREATE TRIGGER refusing BEFORE INSERT ON batch FOR EACH ROW EXECUTE FUNCTION refuse()`)
	_, content := writeList(t, i.World, rows)
	run := start(t, api, content)

	const failed = "FROM river_job WHERE kind = 'plan' AND cardinality(errors) > 0"
	eventually(t, 20*time.Second, func() (bool, string) {
		return execute("SELECT "+failed) > 0, "no job has failed"
	})
	if h := health(); len(h.Failing) != 0 || strings.Contains(h.Sentence, "keeps failing") {
		t.Errorf("what has only just failed is said to keep failing: %+v", h.Failing)
	}
	execute(`UPDATE river_job SET attempt = 30, errors = array_fill(jsonb_build_object('at', now() - interval '2 minutes', 'attempt', 1, 'error', 'the disk is full', 'trace', ''), ARRAY[30]) || errors
		WHERE id IN (SELECT id ` + failed + `)`)
	eventually(t, 20*time.Second, func() (bool, string) {
		return execute("SELECT FROM event WHERE code = 'work.failing' AND told_at IS NOT NULL") == 1, "nobody is told"
	})
	eventually(t, 20*time.Second, func() (bool, string) {
		return execute("SELECT FROM river_job WHERE cardinality(errors) > 20") == 0, "a job keeps all its errors"
	})
	h := health()
	if len(h.Failing) != 1 || h.Failing[0].Kind != "plan" || h.Failing[0].At != "run 1" || h.Failing[0].Attempts < 30 || time.Since(h.Failing[0].Since) < 2*time.Minute || !strings.Contains(h.Failing[0].Said, "no room is left") {
		t.Fatalf("what keeps failing: %+v", h.Failing)
	}
	if want := "Background work keeps failing: planning runs. 1 worker"; !strings.HasPrefix(h.Sentence, want) {
		t.Errorf("the service says %q", h.Sentence)
	}
	if m := s.Measured(t); !strings.Contains(m, `varnet_failing_jobs{kind="plan"} 1`) {
		t.Error("the metrics do not count the jobs that fail")
	}
	if r, err := api.Run(t.Context(), run.ID); err != nil || len(r.Waits) != 1 || !r.Waits[0].Failing || !strings.HasPrefix(r.Waits[0].Sentence, "Planning the run has been failing since ") {
		t.Errorf("the run waits for %+v, %v", r.Waits, err)
	}
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("what fails", browser.SignIn(s.URL), chromedp.Navigate(s.URL+"/health"), browser.Text("What keeps failing"), browser.Text("planning runs"), browser.Text("no room is left"))
	do("the run says so", chromedp.Navigate(s.URL+"/runs/1"), browser.Text("Planning the run has been failing since"))
	do("a notice", chromedp.Navigate(s.URL+"/notices"), browser.Text("Background work keeps failing"), browser.Press("See what fails"), browser.Text("What keeps failing"))

	execute("DROP TRIGGER refusing ON batch")
	execute("UPDATE river_job SET state = 'available', scheduled_at = now() WHERE state = 'retryable'")
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	after, err := api.Wait(ctx, run.ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}
	checkResults(t, api, after, i.World)
	if h := health(); len(h.Failing) != 0 {
		t.Errorf("what went well is said to fail: %+v", h.Failing)
	}
	if log := s.Log(); strings.Contains(log, "kind=calendar") {
		t.Errorf("what is due is not looked at: %s", log)
	}
	if n := execute("SELECT FROM event WHERE code = 'work.failing'"); n != 1 {
		t.Errorf("it was told %d times", n)
	}
}
