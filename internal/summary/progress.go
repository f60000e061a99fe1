package summary

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
)

// runSentence says where a run stands.
func runSentence(b contract.Run, zone *time.Location) string {
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
		return fmt.Sprintf("The run begins %s; it has %s addresses.", when(*b.BeginAt, zone), say.Number(b.Addresses))
	case b.State == store.Stopped && b.LimitMinutes > 0 && b.FinishedAt.Sub(*b.BeginAt) >= time.Duration(b.LimitMinutes)*time.Minute:
		return fmt.Sprintf("%s; the run was stopped at its limit of %s.", done, say.Plural(int64(b.LimitMinutes), "minute", "minutes"))
	case b.State == store.Stopped:
		return done + "; the run was stopped."
	case b.ResumeAt != nil:
		return fmt.Sprintf("%s; the run is paused outside its hours and resumes %s, with %s left.", done, when(*b.ResumeAt, zone), say.Number(b.Open+b.Again))
	case b.State == store.Paused:
		return fmt.Sprintf("%s; the run is paused, with %s left.", done, say.Number(b.Open+b.Again))
	case b.State == store.Waiting:
		return fmt.Sprintf("%s; %s for a later round.", done, say.Plural(b.Postponed, "waits", "wait"))
	}
	if b.Postponed > 0 {
		done += fmt.Sprintf("; %s put off by their hosts and will be asked again", say.Plural(b.Postponed, "was", "were"))
	}
	return done + "."
}

// leftovers remembers for a moment what is left of runs, whoever watches them.
type leftovers struct {
	mu sync.Mutex
	by map[int64]leftover
}

type leftover struct {
	Left
	at time.Time
}

// LookEvery is how often a run is looked at for those who watch it; what is left of it is
// remembered that long.
const LookEvery = 300 * time.Millisecond

func (l *leftovers) of(ctx context.Context, left func(context.Context, store.Run) (Left, error), r store.Run) (Left, error) {
	l.mu.Lock()
	known, ok := l.by[r.ID]
	l.mu.Unlock()
	if ok && time.Since(known.at) < LookEvery {
		return known.Left, nil
	}
	now, err := left(ctx, r)
	if err != nil {
		return now, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for id, old := range l.by {
		if time.Since(old.at) > LookEvery {
			delete(l.by, id)
		}
	}
	if l.by == nil {
		l.by = map[int64]leftover{}
	}
	l.by[r.ID] = leftover{now, time.Now()}
	return now, nil
}

// mostWaits is how many operators a run names that it waits for.
const mostWaits = 12

// await says what a run waits for, and until when.
func (s *Summaries) await(ctx context.Context, r store.Run, b *contract.Run, zone *time.Location) error {
	left, err := s.leftovers.of(ctx, s.Left, r)
	if err != nil {
		return err
	}
	if left.PlanFails != nil {
		b.Waits = append(b.Waits, contract.Wait{Failing: true, Sentence: "Planning the run " + failsSince(*left.PlanFails, zone)})
	}
	for _, w := range left.Awaited {
		if len(b.Waits) < mostWaits {
			b.Waits = append(b.Waits, contract.Wait{Operator: w.Operator, Addresses: w.Ready + w.InHand + w.Postponed, Until: untilOf(w), Failing: w.Fails != nil, Sentence: waitSentence(w, zone)})
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

func untilOf(w Awaited) *time.Time {
	if w.Ready+w.InHand > 0 && !w.Rests {
		return nil
	}
	return w.Until
}

// waitSentence says what is waited for at an operator.
func waitSentence(w Awaited, zone *time.Location) string {
	whom := "hosted by " + w.Operator
	switch {
	case w.Unresolved:
		whom = "whose domain DNS failed for"
	case w.Operator == "":
		whom = "at small operators, which share lanes"
	}
	all := say.Addresses(w.Ready+w.InHand+w.Postponed) + " " + whom
	switch {
	case w.Fails != nil:
		return all + ": asking them " + failsSince(*w.Fails, zone)
	case w.Rests:
		return fmt.Sprintf("%s: it complained of too many questions and is left alone until %s.", all, Clock(*w.Until, zone))
	case w.Ready+w.InHand == 0:
		return fmt.Sprintf("%s: put off, to be asked again from %s on.", all, Clock(*w.Until, zone))
	}
	how := say.Plural(w.InHand, "is", "are") + " being asked"
	if w.InHand == 0 {
		how = "waiting for a free lane"
	}
	if w.Operator != "" && !w.Unresolved {
		how += fmt.Sprintf(", on at most %s at a time", say.Plural(int64(w.Lanes), "session", "sessions"))
	}
	if w.Postponed > 0 {
		how += fmt.Sprintf("; %s put off until %s", say.Plural(w.Postponed, "was", "were"), Clock(*w.Until, zone))
	}
	return all + ": " + how + "."
}

// failsSince says that something has been failing since then, and what comes next.
func failsSince(at time.Time, zone *time.Location) string {
	return fmt.Sprintf("has been failing since %s, through no fault of the mail hosts. It is retried every few seconds; whoever looks after the installation has been told.", at.In(zone).Format("2 January, 15:04 MST"))
}

// Waiting returns what of the waits is news to somebody who watches.
func Waiting(waits []contract.Wait) (out string) {
	for _, w := range waits {
		out += fmt.Sprint(w.Operator, w.Addresses, w.Until, w.Failing, " ")
	}
	return out
}

// OperatorOf is the operator of a lane key; small ones that share one have none.
func OperatorOf(key string) string {
	if pace.IsShared(key) {
		return ""
	}
	return key
}

// DraftOf says what a run of a list would take.
func DraftOf(l store.List, d Draft, rounds pace.Rounds) contract.Draft {
	b := contract.Draft{Rows: l.Rows, Addresses: l.Addresses + l.Malformed, Malformed: l.Malformed, Reused: d.Reused, Hopeless: d.Hopeless, Ask: d.Ask,
		Operators: d.Operators, LookedUp: d.LookedUp, Seconds: d.Likely.Seconds(), From: d.Low.Seconds(), To: d.High.Seconds(), Slowest: OperatorOf(d.Slowest.Key)}
	b.Sentence = draftSentence(b, d, rounds)
	return b
}

// draftSentence says what a run will take.
func draftSentence(b contract.Draft, d Draft, rounds pace.Rounds) string {
	var parts []string
	for _, part := range []struct {
		n    int64
		says string
	}{{b.Reused, "known from earlier runs"}, {b.Hopeless, "at domains that take no mail"}} {
		if part.n > 0 {
			parts = append(parts, say.Plural(part.n, "is ", "are ")+part.says)
		}
	}
	s := fmt.Sprintf("The %s hold %s", say.Rows(b.Rows), say.Addresses(b.Addresses-b.Malformed))
	if b.Malformed > 0 {
		s += " and " + say.Plural(b.Malformed, "text that is not an address", "texts that are not addresses")
	}
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
			known = "as measured recently"
		}
		s += fmt.Sprintf(" The slowest operator is %s: %s on at most %s at a time, %.0f a second on each, %s.", b.Slowest,
			say.Addresses(d.Slowest.Addresses), say.Plural(int64(d.Slowest.Cap), "session", "sessions"), d.Slowest.Speed(), known)
	}
	waits := make([]string, len(rounds))
	for i, r := range rounds {
		waits[i] = say.Span(r)
	}
	return s + fmt.Sprintf(" What hosts put off is asked again after %s.", strings.Join(waits, ", then "))
}
