package work

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"varnet/core/outbound"
	"varnet/core/probe"
	"varnet/internal/store"
)

var (
	resultsTotal  = promauto.NewCounterVec(prometheus.CounterOpts{Name: "varnet_results_total", Help: "Addresses concluded by this process, by finding and cause."}, []string{"finding", "cause"})
	repliesTotal  = promauto.NewCounterVec(prometheus.CounterOpts{Name: "varnet_replies_total", Help: "Replies about mailboxes, by the first digit of their code; none: no reply came."}, []string{"class"})
	sessionsTotal = promauto.NewCounter(prometheus.CounterOpts{Name: "varnet_sessions_total", Help: "Conversations with mail hosts."})
	parcelsTotal  = promauto.NewCounter(prometheus.CounterOpts{Name: "varnet_parcels_total", Help: "Parcels recorded by this process."})
)

// measured counts what a parcel brought, unless it was not written down for an error.
func (e *Engine) measured(err error, results []store.Concluded, conversations []probe.Conversation) error {
	if err != nil {
		return err
	}
	e.sessions.add(conversations)
	parcelsTotal.Inc()
	sessionsTotal.Add(float64(len(conversations)))
	countResults(results)
	for _, r := range results {
		class := "none"
		if n := len(r.Asked); n > 0 && r.Asked[n-1].Reply != "" {
			class = r.Asked[n-1].Reply[:1]
		}
		repliesTotal.WithLabelValues(class).Inc()
	}
	return nil
}

func countResults(results []store.Concluded) {
	for _, r := range results {
		resultsTotal.WithLabelValues(string(r.Verdict.Finding), string(r.Verdict.Cause)).Inc()
	}
}

// state tells what waits and how outbound is, read when it is asked for.
type state struct{ engine *Engine }

var (
	parcelsNow   = prometheus.NewDesc("varnet_parcels", "Parcels by state.", []string{"state"}, nil)
	addressesNow = prometheus.NewDesc("varnet_queued_addresses", "Addresses in parcels, by state.", []string{"state"}, nil)
	ageNow       = prometheus.NewDesc("varnet_queue_age_seconds", "How long the oldest open parcel has waited.", nil, nil)
	workersNow   = prometheus.NewDesc("varnet_workers", "Workers with a recent heartbeat.", nil, nil)
	inHandNow    = prometheus.NewDesc("varnet_lanes_open", "Lanes that this process works in.", nil, nil)
	readsNow     = prometheus.NewDesc("varnet_replica_reads_total", "Large reads, by where they were served from: the replica, or the server itself.", []string{"from"}, nil)
	failingNow   = prometheus.NewDesc("varnet_failing_jobs", "Jobs that failed at least five times in a row, for a minute or longer, by kind.", []string{"kind"}, nil)
	sideNow      = prometheus.NewDesc("varnet_outbound_ready", "1 where the last test of a resolver, route or identity went well.", []string{"kind", "name"}, nil)
)

func (s state) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{parcelsNow, addressesNow, ageNow, workersNow, inHandNow, readsNow, failingNow, sideNow} {
		to <- d
	}
}

func (s state) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	gauge(inHandNow, float64(s.engine.inHand.Load()))
	if served, past, ok := s.engine.Store.ReplicaReads(); ok {
		to <- prometheus.MustNewConstMetric(readsNow, prometheus.CounterValue, float64(served), "replica")
		to <- prometheus.MustNewConstMetric(readsNow, prometheus.CounterValue, float64(past), "server")
	}
	q, err := s.engine.Store.Queue(ctx)
	if err != nil {
		return // the database does not answer: what is not known is not told
	}
	for _, state := range []string{"open", "postponed", "paused", "claimed"} {
		gauge(parcelsNow, float64(q.Parcels[state]), state)
		gauge(addressesNow, float64(q.Addresses[state]), state)
	}
	gauge(ageNow, q.Age.Seconds())
	if workers, err := s.engine.Store.Workers(ctx); err == nil {
		gauge(workersNow, float64(len(workers)))
	}
	if failing, err := s.engine.Failing(ctx); err == nil {
		now := map[string]int64{}
		for _, f := range failing {
			now[f.Kind] = f.Jobs
		}
		for kind := range s.engine.does {
			gauge(failingNow, float64(now[kind]), kind)
		}
	}
	outcomes, err := s.engine.Store.Outcomes(ctx)
	if err != nil {
		return
	}
	for _, o := range outcomes {
		ready := 0.0
		if o.Outcome.Grade() != outbound.Bad {
			ready = 1
		}
		gauge(sideNow, ready, string(o.Kind), o.Name)
	}
}
