package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"varnet/core/event"
	"varnet/core/pace"
	"varnet/core/say"
	"varnet/internal/store"
	"varnet/internal/summary"
)

// A job keeps failing when it failed so often, the first time so long ago: a server that was restarted
// is back by then.
const (
	failingTimes = 5
	failingFor   = time.Minute
)

// Failing is work of a kind that keeps failing.
type Failing struct {
	store.Failing
	// Does is what such jobs do, for people.
	Does string
}

// At says what the job that has failed longest works on; "" where that has no name.
func (f Failing) At() string {
	switch {
	case f.Run > 0:
		return fmt.Sprintf("run %d", f.Run)
	case f.LaneKey != "":
		return summary.OperatorOf(pace.PlainKey(f.LaneKey))
	}
	return ""
}

// addWorker adds the worker of a kind of jobs, and what these do.
func addWorker[T river.JobArgs](e *Engine, w *river.Workers, worker river.Worker[T], does string) {
	var args T
	e.does[args.Kind()] = does
	river.AddWorker(w, worker)
}

// Failing returns the work that keeps failing, what has failed longest first.
func (e *Engine) Failing(ctx context.Context) ([]Failing, error) {
	found, err := e.Store.Failing(ctx, failingTimes, failingFor)
	out := make([]Failing, len(found))
	for i, f := range found {
		out[i] = Failing{f, cmp.Or(e.does[f.Kind], f.Kind)} // a worker of another release may have kinds of its own
	}
	return out, err
}

// tellFailing tells what keeps failing, once a day for each kind of work.
func (e *Engine) tellFailing(ctx context.Context) error {
	failing, err := e.Failing(ctx)
	if err != nil || len(failing) == 0 {
		return err
	}
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		told, err := s.ToldSince(ctx, event.WorkFailing, 24*time.Hour)
		if err != nil {
			return err
		}
		const between = ", "
		known := strings.Split(strings.Join(told, between), between)
		var does, says []string
		for _, f := range failing {
			if !slices.Contains(known, f.Does) {
				does, says = append(does, f.Does), append(says, f.says())
			}
		}
		if len(does) == 0 {
			return nil
		}
		return e.Happened(ctx, s, tx, event.Event{Code: event.WorkFailing, Says: strings.Join(says, " "), Data: event.Data{Words: strings.Join(does, between)}})
	})
}

// says tells of it without the words of others.
func (f Failing) says() string {
	at := f.At()
	if at != "" {
		at = " (" + at + ")"
	}
	return say.Sentence(fmt.Sprintf("%s%s has been failing since %s, after %s. It is retried every few seconds.", f.Does, at, f.Since.UTC().Format("2 January, 15:04 MST"), say.Plural(int64(f.Attempts), "attempt", "attempts")))
}

// textErrors makes valid text of the errors of jobs, which River stores itself: one may quote what a mail host said, and a
// job whose error PostgreSQL refuses stays as it is until it is rescued.
type textErrors struct{ river.MiddlewareDefaults }

// Work works a job.
func (*textErrors) Work(ctx context.Context, _ *rivertype.JobRow, work func(context.Context) error) error {
	err := work(ctx)
	if err == nil {
		return nil
	}
	said := say.Outside(err.Error())
	if said == err.Error() {
		return err
	}
	return &textError{said, err}
}

// textError is an error in valid text.
type textError struct {
	said string
	err  error
}

func (e *textError) Error() string { return e.said }

// Unwrap returns the error as it was.
func (e *textError) Unwrap() error { return e.err }
