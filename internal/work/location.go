package work

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"varnet/core/finding"
	core "varnet/core/outbound"
	"varnet/core/probe"
	"varnet/core/route"
	"varnet/internal/store/pack"
)

// A worker at a location of its own goes out by its own direct route. It works in the lanes whose
// operators are asked by that, tests it, and does nothing else: it need not reach anything but the
// database and mail hosts.

// queueTest is the queue of tests at a location.
const queueTest = "test"

// queueAt is a queue of the workers of a location; "": of the service's.
func queueAt(queue, location string) string {
	if location == "" {
		return queue
	}
	return queue + "_" + location
}

// ownQueues are the queues that this process takes jobs of.
func (e *Engine) ownQueues() map[string]river.QueueConfig {
	lanes := map[string]river.QueueConfig{
		queueAt(queueLane, e.Location):    {MaxWorkers: e.Lanes},
		queueAt(queuePatient, e.Location): {MaxWorkers: max(1, e.Lanes/8)},
	}
	if e.Location != "" {
		lanes[queueAt(queueTest, e.Location)] = river.QueueConfig{MaxWorkers: testers}
		return lanes
	}
	for queue, most := range map[string]int{
		river.QueueDefault: 20,
		queuePlan:          planners,
		queueLetter:        postmen,
		queueDeliver:       callers,
		queueRoutine:       routines,
		queueTrial:         posting,
		queueSource:        reading,
		queueConnect:       connecting,
		queueWorkshop:      making,
		queueOdds:          learners,
		queueUpkeep:        keepers,
	} {
		lanes[queue] = river.QueueConfig{MaxWorkers: most}
	}
	return lanes
}

const testers = 2

// TestRouteArgs has a direct route tested by a worker at its location.
type TestRouteArgs struct {
	Route string `json:"route"`
}

// Kind names the job.
func (TestRouteArgs) Kind() string { return "test_route" }

type testRouteWorker struct {
	river.WorkerDefaults[TestRouteArgs]
	engine *Engine
}

// Work tests the route; the outcome is the job's output.
func (w *testRouteWorker) Work(ctx context.Context, job *river.Job[TestRouteArgs]) error {
	o, err := w.engine.Outbound.TestHere(ctx, job.Args.Route)
	if err != nil {
		return notThere(err)
	}
	return river.RecordOutput(ctx, o)
}

// testedWithin is how long the outcome of a test at another location is waited for.
const testedWithin = 25 * time.Second

// testElsewhere has a route tested at its location.
func (e *Engine) testElsewhere(ctx context.Context, r route.Route) (o core.Outcome) {
	failed := func(format string, args ...any) core.Outcome {
		var o core.Outcome
		o.Add(core.Bad, "Start one there: varnet worker -location "+r.Location+".", format, args...)
		return o
	}
	there, err := e.Store.Locations(ctx, silence)
	if err != nil || !slices.Contains(there, r.Location) {
		return failed("No worker is at work at %s.", r.Location)
	}
	ctx, cancel := context.WithTimeout(ctx, testedWithin)
	defer cancel()
	found, err := e.doElsewhere(ctx, r.Location, TestRouteArgs{Route: r.String()})
	if err == nil {
		err = json.Unmarshal(found, &o)
	}
	if err != nil {
		return failed("The worker at %s did not test its route within %v.", r.Location, testedWithin)
	}
	return o
}

// elsewhereEvery is how often somebody who waits for a job elsewhere looks whether it is done.
const elsewhereEvery = 20 * time.Millisecond

// doElsewhere has the workers of a location do a job, waits for it, and returns its output. Nothing of
// the job is kept.
func (e *Engine) doElsewhere(ctx context.Context, location string, args river.JobArgs) (json.RawMessage, error) {
	made, err := e.client.Insert(ctx, args, &river.InsertOpts{Queue: queueAt(queueTest, location), MaxAttempts: 1})
	if err != nil {
		return nil, err
	}
	defer func() {
		ctx := context.WithoutCancel(ctx)
		if _, err := e.client.JobDelete(ctx, made.Job.ID); err != nil { // it is at work yet
			_, _ = e.client.JobCancel(ctx, made.Job.ID)
		}
	}()
	for tick := time.NewTicker(elsewhereEvery); ; {
		select {
		case <-tick.C:
		case <-ctx.Done():
			tick.Stop()
			return nil, ctx.Err()
		}
		job, err := e.client.JobGet(ctx, made.Job.ID)
		if err == nil && job.FinalizedAt != nil {
			tick.Stop()
			if job.State != rivertype.JobStateCompleted {
				return nil, fmt.Errorf("the worker at %s did not do it: %s", location, job.State)
			}
			return job.Output(), nil
		}
	}
}

// CheckArgs has one address checked by a worker at a location.
type CheckArgs struct {
	Workspace int64  `json:"workspace"`
	Address   string `json:"address"`
}

// Kind names the job.
func (CheckArgs) Kind() string { return "check" }

type checkWorker struct {
	river.WorkerDefaults[CheckArgs]
	engine *Engine
}

// checkedThere is what a worker elsewhere found about an address.
type checkedThere struct {
	Finding  finding.Finding `json:"finding"`
	Cause    finding.Cause   `json:"cause"`
	Traits   finding.Traits  `json:"traits"`
	Odds     float64         `json:"odds"`
	Evidence []byte          `json:"evidence"`
	Record   json.RawMessage `json:"record"`
}

// Work checks the address; what it found is the job's output.
func (w *checkWorker) Work(ctx context.Context, job *river.Job[CheckArgs]) error {
	c := w.engine.checkNow(ctx, job.Args.Workspace, job.Args.Address, nil)
	record := pack.ParcelRecord{Conversations: c.Conversations}
	if c.Acceptance != nil {
		record.Acceptances = []probe.Acceptance{*c.Acceptance}
	}
	kept, err := pack.Marshal(record)
	if err != nil {
		return err
	}
	return river.RecordOutput(ctx, checkedThere{c.Verdict.Finding, c.Verdict.Cause, c.Verdict.Traits, c.Verdict.Odds, pack.Evidence([][]probe.Asked{c.Asked}), kept})
}

// checkElsewhere has the workers of a location ask about an address; false: they did not, in time.
func (e *Engine) checkElsewhere(ctx context.Context, location string, workspace int64, c *Checked) bool {
	ctx, cancel := context.WithTimeout(ctx, deadline)
	defer cancel()
	found, err := e.doElsewhere(ctx, location, CheckArgs{workspace, c.Address.Mailbox()})
	var there checkedThere
	var record pack.ParcelRecord
	var asked [][]probe.Asked
	if err == nil {
		err = json.Unmarshal(found, &there)
	}
	if err == nil {
		err = pack.Unmarshal(there.Record, &record)
	}
	if err == nil {
		asked, err = pack.ReadEvidence(there.Evidence, 1)
	}
	if err != nil {
		e.Log.Warn("an address was not asked about at another location", "location", location, "err", err)
		return false
	}
	c.Verdict, c.Asked, c.Conversations = finding.Verdict{Finding: there.Finding, Cause: there.Cause, Traits: there.Traits, Odds: there.Odds}, asked[0], record.Conversations
	if len(record.Acceptances) > 0 {
		c.Acceptance = &record.Acceptances[0]
	}
	return true
}

// takeOver has the service take the jobs of locations whose workers are gone: it sorts them anew.
func (e *Engine) takeOver(ctx context.Context) error {
	if e.Location != "" {
		return nil
	}
	left, err := e.Outbound.Unattended(ctx)
	if err != nil || len(left) == 0 {
		return err
	}
	for _, queue := range []string{queueLane, queuePatient} {
		var of []string
		for _, l := range left {
			of = append(of, queueAt(queue, l))
		}
		n, err := e.Store.MoveJobs(ctx, of, queue)
		if err != nil {
			return err
		}
		if n > 0 {
			e.Log.Info(fmt.Sprintf("the work of locations without a worker goes on elsewhere: %d lanes", n), "locations", left)
		}
	}
	return nil
}
