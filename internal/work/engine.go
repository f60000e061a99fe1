// Package work does the work of runs as jobs on PostgreSQL (River).
//
//	plan: a run's domains are resolved, the hopeless concluded at once, the
//	      rest cut into parcels by operator
//	lane: one of an operator's few sessions: takes the operator's next parcel,
//	      whichever run it belongs to, probes and records it
//	wake: opens an operator's lanes again when postponed parcels fall due
//	clock: begins, pauses, resumes and stops a run at its times
//	calendar, routine: standing orders, step by step
//	collect, write-back: contacts from connections, and decisions back to them
//	tell, deliver: what happened becomes notices, letters and calls of webhooks
//
// Plan and lane jobs work for a slice of some seconds and then hand on to a
// successor in the transaction that completes them. A job is unique by what it
// works on, so across all worker processes an operator never sees more sessions
// than it has lanes, without a lock held or a table polled. A worker that dies
// leaves its jobs running; River rescues them, and the lane's next job gives
// back the parcel that was left claimed.
package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/bits"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"
	"golang.org/x/sync/errgroup"

	"varnet/core/pace"
	"varnet/internal/activity"
	"varnet/internal/allowance"
	"varnet/internal/bounce"
	"varnet/internal/clock"
	"varnet/internal/connect"
	"varnet/internal/connection"
	"varnet/internal/follow"
	"varnet/internal/form"
	"varnet/internal/giveway"
	"varnet/internal/intake"
	"varnet/internal/letter"
	"varnet/internal/odds"
	"varnet/internal/outbound"
	"varnet/internal/outbox"
	"varnet/internal/rights"
	"varnet/internal/routine"
	"varnet/internal/store"
	"varnet/internal/summary"
	"varnet/internal/trial"
	"varnet/internal/workshop"
)

// The times of a job. A parcel that begins within the slice has until the
// deadline; then what is unanswered goes back. Together with River's rescue
// this bounds how long a dead worker's parcels rest: under a minute.
const (
	slice       = 6 * time.Second
	deadline    = 22 * time.Second
	jobTimeout  = 25 * time.Second
	rescueAfter = 26 * time.Second
)

// DefaultLanes are how many lanes a process works in unless it is told otherwise.
const DefaultLanes = 200

// Config is what an engine works with.
type Config struct {
	outbound.Config
	// Rounds are the waits before postponed addresses are asked again.
	Rounds pace.Rounds
	// Lanes are how many the process works in at once.
	Lanes int
	// Follow reads the catalogues that workspaces follow.
	Follow follow.Reader
	// Unknown is how many recipients that it refuses an address is asked about in a
	// minute; 0: any number.
	Unknown int
	// Serves tells that the process serves API and console, too.
	Serves bool
	// Clock is what goes by the calendar.
	Clock clock.Clock
	// RoutineFolder holds a folder for each workspace, in which routines read and write; "":
	// they do not.
	RoutineFolder string
	// LetterRest is the least time between two trial letters to one operator.
	LetterRest time.Duration
	// ReturnsDomain is the domain of return addresses of ours; "" where none are given out.
	ReturnsDomain string
	// FormDeadline is within how long a public form is answered; 0: form.Deadline.
	FormDeadline time.Duration
	// Country is the country of an IP address, as a code of two letters, "" where it is not
	// known; nil: the installation cannot tell.
	Country func(ip string) string
}

// Engine runs the jobs.
type Engine struct {
	Config
	client  *river.Client[pgx.Tx]
	closing atomic.Bool
	// Outbound is who asks, by which way out.
	Outbound *outbound.Outbound
	// Outbox tells events.
	Outbox *outbox.Outbox
	// Importer imports files.
	Importer *intake.Importer
	// Routines are where routines read and write.
	Routines routine.Places
	// Connections are the places that contacts live in.
	Connections *connection.Connections
	// Allowance keeps the allowances of workspaces.
	Allowance *allowance.Desk
	// Bounces imports what comes back after mailings.
	Bounces *bounce.Desk
	// Odds learns from mailings how likely messages to catch-all addresses arrive.
	Odds *odds.Odds
	// Activity keeps when something was seen of addresses last.
	Activity *activity.Desk
	// Rights answers the persons whose addresses are kept.
	Rights *rights.Desk
	// Forms answers public forms.
	Forms          *form.Desk
	formCatalogues formCatalogues
	// Sources are the mailboxes that are read, and the programs that call.
	Sources *bounce.Sources
	// Trials sends trial letters.
	Trials *trial.Post
	// Workshop makes lists from lists; makingAt are those at work here by their workspace.
	Workshop *workshop.Workshop
	makingAt places
	// connectingAt are imports and write-backs at work here by their workspace.
	connectingAt places
	// routinesAt are those at work here by their workspace; starting has room for those that
	// start their runs.
	routinesAt places
	starting   chan struct{}
	// catalogues are those of the runs at work.
	catalogues catalogues
	// absences is which workspaces know of mailboxes found absent long ago.
	absences absences
	speeds   speeds
	// awaited is what waits at all lane keys.
	awaited awaited
	// gotOn are the runs that got on since that was told.
	gotOn gotOn
	// probing ends when the engine is told to stop.
	probing    context.Context
	endProbing context.CancelFunc
	// hosts holds the places at mail hosts against those of other workers.
	hosts *store.HostPlaces
	// does is what jobs do, for people, by their kind.
	does map[string]string
	// self is this process as a worker, inHand how many parcels it works on.
	self store.Worker
	// sessions are those begun since it started.
	sessions sessionCount
	inHand   atomic.Int64
	// endLife ends its heartbeats; dead is closed after the last.
	endLife context.CancelFunc
	dead    chan struct{}
	// Drained is closed when the worker was told to come to its end, and did.
	Drained chan struct{}
}

// Start begins to work jobs. Without it an engine only takes new work in.
func (e *Engine) Start(ctx context.Context) error {
	ctx = context.WithoutCancel(ctx)
	if _, err := e.Store.SeeWorker(ctx, e.self); err != nil {
		return err
	}
	if err := e.Outbound.Announce(ctx); err != nil {
		return err
	}
	if err := e.client.Start(ctx); err != nil {
		return err
	}
	var living context.Context
	living, e.endLife = context.WithCancel(ctx)
	e.dead = make(chan struct{})
	go e.live(living)
	go e.tell(living)
	// A second engine of the process is measured by the first.
	_ = prometheus.Register(state{e})
	return nil
}

// New makes an engine.
func New(c Config) (*Engine, error) {
	if c.Gate == nil {
		c.Gate = giveway.New()
	}
	e := &Engine{Config: c, self: newWorker(c), starting: make(chan struct{}, starting), Drained: make(chan struct{}),
		absences: absences{old: map[int64]bool{}}, does: map[string]string{}, speeds: speeds{by: map[string]*gathered{}}}
	e.probing, e.endProbing = context.WithCancel(context.Background())
	e.setUpStore()
	e.setUpOutside()
	e.setUpLists()
	e.setUpMailings()
	var err error
	e.client, err = river.NewClient(driver{riverpgxv5.New(e.Store.Pool()), riverpgxv5.New(e.Store.SessionPool())}, &river.Config{
		Queues:                      e.ownQueues(),
		FetchCooldown:               fetchCooldown,
		ID:                          e.self.ID,
		PeriodicJobs:                []*river.PeriodicJob{retention(), following(), calendar(), verifying(), buying()},
		Workers:                     e.jobs(),
		Logger:                      slog.New(levelled{e.Log.Handler(), slog.LevelWarn}),
		JobTimeout:                  jobTimeout,
		RescueStuckJobsAfter:        rescueAfter,
		CompletedJobRetentionPeriod: 10 * time.Minute,
		RetryPolicy:                 retryPolicy{},
		ErrorHandler:                faults{e.Log},
		Middleware:                  []rivertype.Middleware{&textErrors{}},
		MaxAttempts:                 maxAttempts,
	})
	if err != nil {
		return nil, fmt.Errorf("set up the job engine: %w", err)
	}
	return e, nil
}

// setUpStore tells the store what it asks others for. It comes first: stores for bulk and for
// requests are copies that know what it knows when they are made.
func (e *Engine) setUpStore() {
	e.Store.StampBy(e.Clock.Now)
	e.Store.GiveWayBy(e.Gate.GiveWay)
	e.Store.FingerprintBy(rights.Fingerprints(e.Secrets))
	e.Rights = &rights.Desk{Secrets: e.Secrets, Grammar: e.Grammar}
	e.Store.EraseBy(e.Rights.Gone)
	e.Rights.Store = e.Store.Bulk()
}

// setUpOutside sets up what speaks with others: mail hosts, connections, and whoever is told of
// events.
func (e *Engine) setUpOutside() {
	private := e.Resolver.AllowPrivate
	e.Outbound = outbound.New(e.Config.Config)
	e.Outbound.Happened, e.Outbound.Elsewhere = e.Happened, e.testElsewhere
	e.hosts = e.Store.HostPlaces()
	e.Prober.Places = &pace.Places{Unknown: e.Unknown, Shared: e.hosts, Waits: e.Gate.Wait}
	e.Outbox = &outbox.Outbox{Store: e.Store, Secrets: e.Secrets, Summaries: &summary.Summaries{Source: e.Store, Left: e.Left},
		Office: &letter.Office{Store: e.Store, Secrets: e.Secrets}, Clock: e.Clock, AllowPrivate: private}
	e.Routines = routine.Places{Folder: e.RoutineFolder, AllowPrivate: private}
	e.Connections = &connection.Connections{Store: e.Store, Secrets: e.Secrets, Env: connect.Env{AllowPrivate: private, Folder: e.RoutineFolder}}
}

// setUpLists sets up what makes lists, and what answers and keeps account of those who use them.
func (e *Engine) setUpLists() {
	bulk, now := e.Store.Bulk(), e.Clock.Now
	e.Importer = &intake.Importer{Store: bulk, Grammar: e.Grammar, Catalogue: e.Catalogue, Imported: e.imported, GiveWay: e.Gate.GiveWay}
	e.Workshop = &workshop.Workshop{Store: bulk, Importer: e.Importer, Grammar: e.Grammar, Catalogue: e.Catalogue, Now: now, Country: e.Country}
	e.Activity = &activity.Desk{Store: bulk, Grammar: e.Grammar, Now: now}
	e.Allowance = &allowance.Desk{Store: e.Store, Secrets: e.Secrets, Now: now, Happened: e.Happened, Log: e.Log}
	e.Forms = &form.Desk{Store: e.Store.Requests(), Secrets: e.Secrets, Grammar: e.Grammar, Log: e.Log, Now: now,
		Deadline: cmp.Or(e.FormDeadline, form.Deadline), Check: e.checkForForm, Happened: e.Happened}
}

// setUpMailings sets up what sends trial letters, takes bounces in and learns from both.
func (e *Engine) setUpMailings() {
	now := e.Clock.Now
	e.Bounces = &bounce.Desk{Store: e.Store, Now: now, Happened: e.Happened, Tags: bounce.Tags{Domain: e.ReturnsDomain, Sums: func(text string) (sums [][]byte) {
		for _, p := range e.Secrets.Prints(text, "return address") {
			sums = append(sums, p.Sum)
		}
		return sums
	}}}
	e.Sources = &bounce.Sources{Desk: e.Bounces, Secrets: e.Secrets, Env: e.Connections.Env}
	e.Trials = &trial.Post{Store: e.Store, Secrets: e.Secrets, Outbound: e.Outbound, Office: e.Outbox.Office, Env: e.Connections.Env,
		Desk: e.Bounces, Between: e.LetterRest, Now: now}
	e.Odds = &odds.Odds{Store: e.Store.Bulk(), Now: now}
}

// jobs are the workers of all kinds of jobs, each with what it does, for people.
func (e *Engine) jobs() *river.Workers {
	w := river.NewWorkers()
	addWorker(e, w, &planWorker{engine: e}, "planning runs")
	addWorker(e, w, &laneWorker{engine: e}, "asking mail hosts")
	addWorker(e, w, &wakeWorker{engine: e}, "taking up postponed addresses")
	addWorker(e, w, &clockWorker{engine: e}, "beginning and ending runs at their times")
	addWorker(e, w, &retentionWorker{engine: e}, "hourly upkeep")
	addWorker(e, w, &followWorker{engine: e}, "reading catalogues that are followed")
	addWorker(e, w, &letterWorker{engine: e, office: e.Outbox.Office}, "sending letters to accounts")
	addWorker(e, w, &eventLetterWorker{engine: e}, "sending letters about events")
	addWorker(e, w, &tellWorker{engine: e}, "telling events")
	addWorker(e, w, &deliverWorker{engine: e}, "calling webhooks")
	addWorker(e, w, &calendarWorker{engine: e}, "looking for what is due")
	addWorker(e, w, &verifyWorker{engine: e}, "verifying the ledger")
	addWorker(e, w, &buyWorker{engine: e}, "buying checks")
	addWorker(e, w, &routineWorker{engine: e}, "running routines")
	addWorker(e, w, &routineLookWorker{engine: e}, "looking at the sources of routines")
	addWorker(e, w, &collectWorker{engine: e}, "importing from connections")
	addWorker(e, w, &writeBackWorker{engine: e}, "writing back")
	addWorker(e, w, &mailingWorker{engine: e}, "preparing and closing mailings")
	addWorker(e, w, &trialWorker{engine: e}, "sending trial letters")
	addWorker(e, w, &sourceWorker{engine: e}, "reading bounce sources")
	addWorker(e, w, &workshopWorker{engine: e}, "making lists from lists")
	addWorker(e, w, &oddsWorker{engine: e}, "learning odds")
	addWorker(e, w, &restateWorker{engine: e}, "restating odds")
	addWorker(e, w, &activityWorker{engine: e}, "reading activity columns")
	addWorker(e, w, &eraseWorker{engine: e}, "erasing addresses")
	addWorker(e, w, &testRouteWorker{engine: e}, "testing routes of other locations")
	addWorker(e, w, &checkWorker{engine: e}, "single checks at other locations")
	addWorker(e, w, &foldWorker{engine: e}, "folding results")
	addWorker(e, w, &sweepWorker{engine: e}, "removing what was deleted")
	return w
}

// driver is River's, which listens by connections that keep their session.
type driver struct {
	*riverpgx
	listens *riverpgx
}

func (d driver) GetListener(p *riverdriver.GetListenenerParams) riverdriver.Listener {
	return d.listens.GetListener(p)
}

// Stop lets parcels in flight end their conversations and be recorded; what
// was not asked goes back.
func (e *Engine) Stop(ctx context.Context) error {
	err := e.stopWorking(ctx)
	if e.endLife != nil {
		e.endLife()
		<-e.dead
		err = errors.Join(err, e.Store.EndWorker(ctx, e.self.ID))
	}
	e.hosts.Close()
	return err
}

func (e *Engine) stopWorking(ctx context.Context) error {
	e.closing.Store(true)
	e.endProbing()
	return e.client.Stop(ctx)
}

// ResumeRun lets a paused run go on where it was.
func (e *Engine) ResumeRun(ctx context.Context, workspace, id int64) error {
	side, err := e.Outbound.Setup(ctx)
	if err != nil {
		return err
	}
	err = e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		r, parcels, err := s.ResumeRun(ctx, workspace, id)
		if err != nil || r.State != store.Running {
			return err
		}
		known, err := s.Operators(ctx, laneKeys(parcels))
		if err != nil {
			return err
		}
		return inOrder(
			func() error { return e.insertPlan(ctx, s, tx, workspace, id) },
			func() error { return e.openLanes(ctx, s, tx, side, known, parcels) },
		)
	})
	if err != nil {
		return err
	}
	return e.finishDone(ctx, id) // the last parcel may have come in meanwhile
}

func laneKeys(parcels []store.Parcel) (keys []string) {
	for _, p := range parcels {
		keys = append(keys, p.LaneKey)
	}
	return keys
}

func (e *Engine) insert(ctx context.Context, tx pgx.Tx, jobs ...river.JobArgs) error {
	params := make([]river.InsertManyParams, len(jobs))
	for i, j := range jobs {
		params[i].Args = j
	}
	_, err := e.client.InsertManyTx(ctx, tx, params)
	return err
}

// inOrder takes one step after the other until one fails.
func inOrder(steps ...func() error) error {
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// takeAll takes all steps, so many at a time, whatever comes of the others, and returns what failed.
func takeAll(ctx context.Context, atOnce int, steps ...func(context.Context) error) error {
	failed := make([]error, len(steps))
	var all errgroup.Group
	all.SetLimit(atOnce)
	for i, step := range steps {
		all.Go(func() error { failed[i] = step(ctx); return nil })
	}
	_ = all.Wait()
	return errors.Join(failed...)
}

// unique keeps a second job for the same thing from being inserted while one
// is there that is not completed.
var unique = river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
	rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning,
	rivertype.JobStateRetryable, rivertype.JobStateScheduled,
}}

// fetchCooldown is how soon a job is begun that was inserted a moment after
// another.
const fetchCooldown = 40 * time.Millisecond

const (
	queuePlan = "plan"
	queueLane = "lane"
	// queuePatient are the lanes on which silent hosts are waited for: few at a time.
	queuePatient = "patient"
	maxAttempts  = 30_000 // no job is ever given up
)

// retryPolicy brings a failed or rescued job back after one second, later ones
// after up to ten.
type retryPolicy struct{}

func (retryPolicy) NextRetry(j *rivertype.JobRow) time.Time {
	return time.Now().Add(time.Duration(min(len(j.Errors)+1, 10)) * time.Second)
}

// faults logs what failed in a job, or where it came upon a fault of ours. Either way it is tried again.
type faults struct{ log *slog.Logger }

// HandleError logs the first failures of a job, and ever fewer of those that follow: what a server that is away for an hour
// keeps from its work must not fill the log.
func (f faults) HandleError(_ context.Context, job *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	if bits.OnesCount(uint(job.Attempt)) == 1 { // 1, 2, 4, 8…
		f.log.Warn("a job failed, and is tried again", "kind", job.Kind, "job", job.ID, "attempt", job.Attempt, "error", err)
	}
	return nil
}

func (f faults) HandlePanic(_ context.Context, job *rivertype.JobRow, fault any, trace string) *river.ErrorHandlerResult {
	f.log.Error("a job came upon a fault, and is tried again", "kind", job.Kind, "job", job.ID, "attempt", job.Attempt, "fault", fault, "at", trace)
	return nil
}

// levelled is a log handler that passes on nothing below a level.
type levelled struct {
	slog.Handler
	level slog.Level
}

func (l levelled) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= l.level && l.Handler.Enabled(ctx, level)
}
