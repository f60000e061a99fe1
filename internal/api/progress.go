package api

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"varnet/core/pace"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
	"varnet/internal/work"
)

// runSentence says where a run stands.
func runSentence(ctx context.Context, b contract.Run) string {
	done := fmt.Sprintf("%s of %s addresses are concluded", say.Number(b.Done), say.Number(b.Addresses))
	switch {
	case b.Again > 0 && b.Open == 0 && b.FinishedAt == nil:
		done = fmt.Sprintf("All %s addresses are concluded; %s of them are asked again", say.Number(b.Addresses), say.Number(b.Again))
		if b.Postponed > 0 {
			done += fmt.Sprintf(", %s of these in a later round", say.Number(b.Postponed))
		}
		return done + "."
	case b.State == store.Finished:
		return fmt.Sprintf("All %s addresses are concluded.", say.Number(b.Addresses))
	case b.State == store.Drafted:
		return fmt.Sprintf("The run begins %s; it has %s addresses.", when(ctx, *b.BeginAt), say.Number(b.Addresses))
	case b.State == store.Stopped && b.LimitMinutes > 0 && b.FinishedAt.Sub(*b.BeginAt) >= time.Duration(b.LimitMinutes)*time.Minute:
		return fmt.Sprintf("%s; the run was stopped at its limit of %s.", done, say.Plural(int64(b.LimitMinutes), "minute", "minutes"))
	case b.State == store.Stopped:
		return done + "; the run was stopped."
	case b.ResumeAt != nil:
		return fmt.Sprintf("%s; the run is paused by its hours and goes on %s, %s are left.", done, when(ctx, *b.ResumeAt), say.Number(b.Open+b.Again))
	case b.State == store.Paused:
		return fmt.Sprintf("%s; the run is paused, %s are left.", done, say.Number(b.Open+b.Again))
	case b.State == store.Waiting:
		return fmt.Sprintf("%s; %s wait for a later round.", done, say.Number(b.Postponed))
	}
	if b.Postponed > 0 {
		done += fmt.Sprintf("; %s were put off by their hosts and will be asked again", say.Number(b.Postponed))
	}
	return done + "."
}

// leftovers remembers for a moment what is left of runs, whoever watches them.
type leftovers struct {
	mu sync.Mutex
	by map[int64]leftover
}

type leftover struct {
	work.Left
	at time.Time
}

// leftoverFresh is how long that moment is.
const leftoverFresh = eventInterval

func (l *leftovers) of(ctx context.Context, e *work.Engine, r store.Run) (work.Left, error) {
	l.mu.Lock()
	known, ok := l.by[r.ID]
	l.mu.Unlock()
	if ok && time.Since(known.at) < leftoverFresh {
		return known.Left, nil
	}
	left, err := e.Left(ctx, r)
	if err != nil {
		return left, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for id, old := range l.by {
		if time.Since(old.at) > leftoverFresh {
			delete(l.by, id)
		}
	}
	if l.by == nil {
		l.by = map[int64]leftover{}
	}
	l.by[r.ID] = leftover{left, time.Now()}
	return left, nil
}

// mostWaits is how many operators a run names that it waits for.
const mostWaits = 12

// await says what a run waits for, and until when.
func (a *API) await(ctx context.Context, r store.Run, b *contract.Run) error {
	left, err := a.left.of(ctx, a.engine, r)
	if err != nil {
		return err
	}
	for _, w := range left.Awaited {
		if len(b.Waits) < mostWaits {
			b.Waits = append(b.Waits, contract.Wait{Operator: w.Operator, Addresses: w.Ready + w.InHand + w.Postponed, Until: untilOf(w), Sentence: waitSentence(ctx, w)})
		}
	}
	now := time.Now()
	switch {
	case left.Likely > 0 && b.State != store.Waiting:
		b.ExpectedEnd = &contract.Expected{At: now.Add(left.Likely), From: now.Add(left.Low), To: now.Add(left.High)}
	case b.NextRound != nil:
		b.ExpectedEnd = &contract.Expected{At: *b.NextRound, From: *b.NextRound, To: *b.NextRound}
	}
	return nil
}

func untilOf(w work.Awaited) *time.Time {
	if w.Ready+w.InHand > 0 && !w.Rests {
		return nil
	}
	return w.Until
}

// waitSentence says what is waited for at an operator.
func waitSentence(ctx context.Context, w work.Awaited) string {
	whom := "hosted by " + w.Operator
	switch {
	case w.Unresolved:
		whom = "whose domain the name service failed for"
	case w.Operator == "":
		whom = "at small operators, which share lanes"
	}
	all := say.Addresses(w.Ready+w.InHand+w.Postponed) + " " + whom
	switch {
	case w.Rests:
		return fmt.Sprintf("%s: it complained of too many questions and is left alone until %s.", all, clock(ctx, *w.Until))
	case w.Ready+w.InHand == 0:
		return fmt.Sprintf("%s: put off, to be asked again from %s on.", all, clock(ctx, *w.Until))
	}
	how := fmt.Sprintf("%s are being asked", say.Number(w.InHand))
	if w.InHand == 0 {
		how = "waiting for a free lane"
	}
	if w.Operator != "" && !w.Unresolved {
		how += fmt.Sprintf(", on at most %s at a time", say.Plural(int64(w.Lanes), "session", "sessions"))
	}
	if w.Postponed > 0 {
		how += fmt.Sprintf("; %s were put off until %s", say.Number(w.Postponed), clock(ctx, *w.Until))
	}
	return all + ": " + how + "."
}

// waiting tells what of the waits is news to somebody who watches.
func waiting(waits []contract.Wait) (out string) {
	for _, w := range waits {
		out += fmt.Sprint(w.Operator, w.Addresses, w.Until, " ")
	}
	return out
}

type draftOutput struct{ Body contract.Draft }

func (a *API) draftRun(ctx context.Context, in *struct {
	ByID
	Body contract.NewRun
}) (*draftOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	r, err := a.newRun(ctx, l, in.Body)
	if err != nil {
		return nil, err
	}
	d, err := a.engine.Draft(ctx, l, r)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := contract.Draft{Rows: l.Rows, Addresses: l.Addresses + l.Malformed, Malformed: l.Malformed, Reused: d.Reused, Hopeless: d.Hopeless, Ask: d.Ask,
		Operators: d.Operators, LookedUp: d.LookedUp, Seconds: d.Likely.Seconds(), From: d.Low.Seconds(), To: d.High.Seconds(), Slowest: nameOfKey(d.Slowest.Key)}
	b.Sentence = draftSentence(b, d, a.engine.Rounds)
	return &draftOutput{b}, nil
}

// nameOfKey is the operator of a lane key; small ones that share one have none.
func nameOfKey(key string) string {
	if pace.IsShared(key) {
		return ""
	}
	return key
}

// draftSentence says what a run will take.
func draftSentence(b contract.Draft, d work.Draft, rounds pace.Rounds) string {
	var parts []string
	for _, part := range []struct {
		n    int64
		says string
	}{{b.Malformed, "no address at all"}, {b.Reused, "known from earlier runs"}, {b.Hopeless, "at domains that take no mail"}} {
		if part.n > 0 {
			parts = append(parts, say.Plural(part.n, "is ", "are ")+part.says)
		}
	}
	s := fmt.Sprintf("The %s hold %s", say.Rows(b.Rows), say.Addresses(b.Addresses))
	if len(parts) > 0 {
		s += ": " + strings.Join(parts, ", ")
	}
	if b.Ask == 0 {
		return s + ". No mail host is asked, so this takes seconds."
	}
	s += fmt.Sprintf(". %s asked at their mail hosts. That is expected to take %s, in 8 of 10 cases between %s and %s.",
		say.Plural(b.Ask, "is", "are"), say.Span(d.Likely), say.Span(d.Low), say.Span(d.High))
	if b.Slowest != "" {
		known := "which is typical"
		if d.Slowest.PerSecond > 0 {
			known = "as lately"
		}
		s += fmt.Sprintf(" The longest is %s: %s on at most %s at a time, %.0f a second on each, %s.", b.Slowest,
			say.Addresses(d.Slowest.Addresses), say.Plural(int64(d.Slowest.Cap), "session", "sessions"), d.Slowest.Speed(), known)
	}
	waits := make([]string, len(rounds))
	for i, r := range rounds {
		waits[i] = say.Span(r)
	}
	return s + fmt.Sprintf(" What hosts put off is asked again after %s.", strings.Join(waits, ", then "))
}
