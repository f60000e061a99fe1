package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/bounce"
	"varnet/core/problem"
	"varnet/core/say"
	coretrial "varnet/core/trial"
	"varnet/internal/contract"
	"varnet/internal/store"
	"varnet/internal/trial"
)

func (a *API) registerTrials(h huma.API) {
	huma.Register(h, operation("get-trial-sender", http.MethodGet, "/trial-letters/sender", "By whom and how trial letters are sent"), a.trialSender)
	huma.Register(h, operation("set-trial-sender", http.MethodPut, "/trial-letters/sender", "Set the sender of trial letters up"), a.setTrialSender)
	huma.Register(h, operation("test-trial-sender", http.MethodPost, "/trial-letters/sender/test", "Test whether hosts can tell that trial letters come from their sender"), a.testTrialSender)
	huma.Register(h, operation("allow-trial-letters", http.MethodPut, "/trial-letters/allowed", "Turn trial letters on or off"), a.allowTrials)
	huma.Register(h, operation("preview-trial-letter", http.MethodPost, "/trial-letters/preview", "A trial letter as its readers get it"), a.previewTrial)
	huma.Register(h, operation("forecast-trial-letters", http.MethodGet, "/runs/{id}/trial-letters", "What settling the catch-all addresses of a run by trial letters will take"), a.forecastTrials)
	huma.Register(h, creates(operation("order-trial-letters", http.MethodPost, "/runs/{id}/trial-letters", "Send trial letters to the catch-all addresses of a run")), a.orderTrials)
	huma.Register(h, operation("stop-trial-letters", http.MethodPost, "/mailings/{id}/stop", "Stop sending the trial letters of a mailing"), a.stopTrials)
}

type trialSenderOutput struct{ Body contract.TrialSender }

func (a *API) trialSender(ctx context.Context, _ *struct{}) (*trialSenderOutput, error) {
	s, err := a.store.TrialSender(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	sent, err := a.store.TrialsSent(ctx, s.WorkspaceID, a.engine.Clock.Now().Add(-24*time.Hour))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := contract.TrialSender{Allowed: s.AllowedAt != nil, AllowedBy: s.AllowedBy, Host: s.Host, Port: s.Port, Security: s.Security, Username: s.Username, Password: s.Sealed != nil,
		Sender: s.Sender, Returns: s.Returns, Servers: append([]string{}, s.Servers...), Selector: s.Selector, Record: s.Record, RecordName: trial.RecordName(s), Daily: s.Daily,
		Checks: []contract.Check{}, TestedAt: s.TestedAt, SentToday: sent, ReturnsHere: a.engine.ReturnsDomain != "", Says: "Trial letters can be sent."}
	if s.Outcome != nil {
		b.Checks = contract.Checks(s.Outcome.Checks)
	}
	problem := a.engine.Trials.Problem(ctx, s.WorkspaceID)
	if b.Usable = problem == nil; !b.Usable {
		b.Says = say.Sentence(problem.Error())
	}
	return &trialSenderOutput{b}, nil
}

func (a *API) setTrialSender(ctx context.Context, in *struct{ Body contract.NewTrialSender }) (*trialSenderOutput, error) {
	n := in.Body
	err := a.engine.Trials.Set(ctx, trial.Change{Password: n.Password, Key: n.Key, TrialSender: store.TrialSender{WorkspaceID: workspace(ctx).ID, Host: n.Host, Port: n.Port, Security: n.Security,
		Username: n.Username, Sender: n.Sender, Returns: n.Returns, Servers: n.Servers, Selector: n.Selector, Daily: cmp.Or(n.Daily, coretrial.Daily)}})
	if err != nil {
		return nil, a.trialProblem(ctx, err)
	}
	return a.trialSender(ctx, nil)
}

func (a *API) testTrialSender(ctx context.Context, _ *struct{}) (*trialSenderOutput, error) {
	if _, err := a.engine.Trials.Test(ctx, workspace(ctx).ID); err != nil {
		return nil, a.trialProblem(ctx, err)
	}
	return a.trialSender(ctx, nil)
}

func (a *API) allowTrials(ctx context.Context, in *struct{ Body contract.TrialsAllowed }) (*trialSenderOutput, error) {
	var at *time.Time
	noteOf(ctx).detail = "off"
	if in.Body.Allowed {
		now := a.engine.Clock.Now()
		at, noteOf(ctx).detail = &now, "on"
	}
	if err := a.store.AllowTrials(ctx, workspace(ctx).ID, at, whose(ctx)); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.trialSender(ctx, nil)
}

func textOf(t contract.TrialText) store.Trial {
	return store.Trial{Subject: t.Subject, Body: t.Body, Who: t.Who, Why: t.Why}
}

func (a *API) previewTrial(ctx context.Context, in *struct{ Body contract.TrialText }) (*struct{ Body contract.TrialLetter }, error) {
	text, err := a.engine.Trials.Preview(ctx, textOf(in.Body))
	if err != nil {
		return nil, a.trialProblem(ctx, err)
	}
	return &struct{ Body contract.TrialLetter }{contract.TrialLetter{Text: text}}, nil
}

// whyLeftOut says why addresses get no trial letter, in the order in which it is told.
var whyLeftOut = []struct {
	left coretrial.LeftOut
	why  string
}{
	{coretrial.SentBefore, "had their trial letter before"},
	{coretrial.Settled, "are settled already"},
	{coretrial.Struck, "complained, unsubscribed, or are dropped by a person"},
	{coretrial.Harmful, "are traps, disposable, or read by nobody"},
	{coretrial.Ruled, "are kept out by a rule of outbound"},
}

func (a *API) forecastTrials(ctx context.Context, in *ByID) (*struct{ Body contract.TrialForecast }, error) {
	run, _, err := a.runAndList(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	f, err := a.engine.Trials.Forecast(ctx, run)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := contract.TrialForecast{Letters: f.Letters, Operators: f.Operators, Daily: f.Daily, Hours: f.Takes.Hours(), Until: f.Until, Says: forecastSays(f), LeftOut: []contract.TrialsLeftOut{}}
	for _, w := range whyLeftOut {
		if n := f.LeftOut[w.left]; n > 0 {
			b.LeftOut = append(b.LeftOut, contract.TrialsLeftOut{Addresses: n, Why: w.why})
		}
	}
	if f.Why != nil {
		b.Problem = say.Sentence(f.Why.Error())
	}
	return &struct{ Body contract.TrialForecast }{b}, nil
}

func forecastSays(f trial.Forecast) string {
	if f.Letters == 0 {
		return "No address of this run is to be settled by a letter."
	}
	leaves := "They leave within " + say.Span(f.Takes)
	if f.Takes < time.Minute {
		leaves = "They leave at once"
	}
	return fmt.Sprintf("%s to %s, at most %s a day. %s; then bounces are waited for, %d hours.", say.Plural(int64(f.Letters), "letter", "letters"),
		say.Plural(int64(f.Operators), "mail operator", "mail operators"), say.Number(int64(f.Daily)), leaves, int(bounce.Watch.Hours()))
}

func (a *API) orderTrials(ctx context.Context, in *struct {
	ByID
	Body contract.TrialOrder
}) (*mailingOutput, error) {
	run, l, err := a.runAndList(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if callerOf(ctx).PersonID == 0 {
		return nil, huma.Error403Forbidden("Trial letters go out on a person's order: sign in to the console. A key cannot order them.")
	}
	if !in.Body.Confirmed {
		return nil, huma.Error422UnprocessableEntity("Nothing is sent without your word.", &huma.ErrorDetail{Location: "body.confirmed", Message: "confirm that you may write to these people, and that the letter is honest"})
	}
	t := textOf(in.Body.TrialText)
	t.Reason = in.Body.Reason
	if err := a.engine.Trials.Check(ctx, run.WorkspaceID, t); err != nil {
		return nil, a.trialProblem(ctx, err)
	}
	m := a.newMailing(ctx, in.Body.Name, time.Time{}, 0)
	m.ListID, m.RunID, m.Trial = &l.ID, &run.ID, &t
	if err := a.engine.Mail(ctx, &m); err != nil {
		return nil, a.failed(ctx, err)
	}
	noteOf(ctx).detail = t.Reason
	return a.mailingOf(ctx, m)
}

func (a *API) stopTrials(ctx context.Context, in *ByID) (*mailingOutput, error) {
	m, err := a.store.Mailing(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	switch {
	case m.Trial != nil && m.State == store.MailingPreparing:
		return nil, huma.Error409Conflict("It is still being written down to whom they go. Stop them in a moment; the first leave after that.")
	case m.State != store.MailingSending:
		return nil, huma.Error409Conflict("None of its letters waits any more.")
	}
	if err := a.engine.Trials.Stop(ctx, m); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.mailingOf(ctx, m)
}

// trialProblem tells what cannot be sent, and why.
func (a *API) trialProblem(ctx context.Context, err error) error {
	var wrong *problem.Field
	switch {
	case errors.As(err, &wrong):
		return huma.Error422UnprocessableEntity("This cannot be sent as it is.", &huma.ErrorDetail{Location: "body." + wrong.Name, Message: wrong.Why})
	case trial.IsProblem(err):
		return huma.Error409Conflict(say.Sentence(err.Error()) + " See Setup, Trial letters.")
	}
	return a.failed(ctx, err)
}

// progressBody is where the letters of a mailing stand; nil where they are not trial letters.
func (a *API) progressBody(ctx context.Context, m store.Mailing) (*contract.TrialProgress, error) {
	if m.Trial == nil {
		return nil, nil
	}
	states, _, err := a.store.TrialStates(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	left, err := a.store.TrialsUnsubscribed(ctx, m.ID)
	return &contract.TrialProgress{Waiting: states[store.TrialWaiting], Sent: states[store.TrialSent] + states[store.TrialSending], Refused: states[store.TrialRefused], Unsubscribed: left,
		Subject: m.Trial.Subject, Body: m.Trial.Body, Reason: m.Trial.Reason}, err
}
