package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestLife estimates a list, runs it, pauses the run with what is in flight and
// lets it go on; deletes it at the end.
func TestLife(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	_, content := writeList(t, i.World, 3000)
	l, err := api.Import(t.Context(), client.File{Name: "members.csv", Body: strings.NewReader(string(content))})
	if err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	e, err := api.Estimate(t.Context(), l.ID)
	if err != nil || e.Sampled != 400 || e.Sampled-e.Late < 300 || e.Addresses != l.Addresses+l.Malformed || time.Since(begun) > 30*time.Second {
		t.Fatalf("%v after %v: %+v", err, time.Since(begun), e)
	}
	if e.LeftOut.Low <= 0 || e.LeftOut.High-e.LeftOut.Low > 0.12 || !strings.Contains(e.Sentence, "% will not be kept: ") {
		t.Errorf("%+v", e)
	}
	r, err := api.StartRun(t.Context(), l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	if err != nil {
		t.Fatal(err)
	}
	for r.Done == 0 || r.Reused == 0 {
		if r, err = api.Run(t.Context(), r.ID); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := api.PauseRun(t.Context(), r.ID); err != nil {
		t.Fatal(err)
	}
	// What is in flight comes to its end; then nothing moves.
	rested := settle(t, api, r.ID)
	if rested.State != "paused" || rested.Open == 0 || !strings.Contains(rested.Sentence, "the run is paused") {
		t.Errorf("%+v", rested)
	}
	if r, err = api.ResumeRun(t.Context(), r.ID); err != nil || r.State == "paused" {
		t.Fatalf("%v: %s", err, r.State)
	}
	if r, err = api.Wait(t.Context(), r.ID, func(contract.Run) {}); err != nil || r.Done != r.Addresses || r.State != "finished" {
		t.Fatalf("%v: %+v", err, r)
	}
	if !strings.Contains(r.Estimate, "It became ") || r.Reused < 250 {
		t.Errorf("%d taken over from the sample: %s", r.Reused, r.Estimate)
	}
	if runs, err := newestRuns(t.Context(), api); err != nil || len(runs) != 1 {
		t.Errorf("%v: %d runs are shown beside the sample", err, len(runs))
	}
	measured(t, s.Measured(t))
	if kept, err := newestLists(t.Context(), api); err != nil || kept[0].KeptUntil == nil || kept[0].KeptUntil.Before(time.Now().AddDate(0, 0, 89)) {
		t.Errorf("%v: kept until %v", err, kept[0].KeptUntil)
	}
	never := 0
	if _, err := api.ChangeList(t.Context(), l.ID, contract.ListChange{KeepDays: &never}); err != nil {
		t.Error(err)
	}
	if kept, err := newestLists(t.Context(), api); err != nil || kept[0].KeptUntil != nil {
		t.Errorf("%v: kept until %v", err, kept[0].KeptUntil)
	}
	if err := api.DeleteList(t.Context(), l.ID); err != nil {
		t.Error(err)
	}
	if _, err := api.Run(t.Context(), r.ID); status(err) != 404 {
		t.Errorf("the run of a deleted list: %v", err)
	}
}

// measured looks for each series of the board among the metrics.
func measured(t *testing.T, text string) {
	t.Helper()
	board, err := os.ReadFile(filepath.Join(testkit.Root(), "docs/grafana.json"))
	if err != nil {
		t.Fatal(err)
	}
	names := regexp.MustCompile(`varnet_[a-z_]+`).FindAllString(string(board), -1)
	if len(names) < 8 {
		t.Errorf("the board shows only %q", names)
	}
	for _, name := range names {
		if !strings.Contains(text, "\n"+name) {
			t.Errorf("the board shows %s, which is not measured", name)
		}
	}
}

// settle waits until a run does not move for a second.
func settle(t *testing.T, api *client.Client, id int64) contract.Run {
	t.Helper()
	for last := int64(-1); ; time.Sleep(time.Second) {
		r, err := api.Run(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if r.Done == last {
			return r
		}
		last = r.Done
	}
}
