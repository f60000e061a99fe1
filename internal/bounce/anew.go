package bounce

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"varnet/core/bounce"
	"varnet/core/finding"
	"varnet/core/probe"
	"varnet/internal/store"
)

// decideAnew gives addresses of which something became known their new results in the lists
// that hold them. Nothing is rewritten: the new results stand over the earlier ones.
func (d *Desk) decideAnew(ctx context.Context, s *store.Store, workspace int64, outcomes map[string]store.KnownOutcome) error {
	holding, err := s.Holdings(ctx, workspace, slices.Collect(maps.Keys(outcomes)))
	if err != nil {
		return err
	}
	verdicts, err := s.Verdicts(ctx)
	if err != nil {
		return err
	}
	for _, h := range holding {
		if err := s.LockRun(ctx, h.Run.ID); err != nil {
			return err
		}
		latest, err := s.Latest(ctx, h.Run.ID)
		if err != nil {
			return err
		}
		var results []store.Concluded
		now, err := latest.Of(ctx, slices.Collect(maps.Values(h.Ordinals)))
		if err != nil {
			return err
		}
		for c, ordinal := range h.Ordinals {
			was := now[ordinal].Verdict
			if was == 0 {
				continue // its run concludes it
			}
			if r, changed := concluded(ordinal, was, verdicts[was], outcomes[c], d.Now()); changed {
				results = append(results, r)
			}
		}
		if err := withEarlier(ctx, s, h.Run.ID, latest, results); err != nil {
			return err
		}
		if err := s.AddOutcomes(ctx, h.Run.ID, results); err != nil {
			return err
		}
	}
	return nil
}

// knowVerdicts sees to it that every verdict has a number that an outcome can make of one
// there is: it comes before the transaction that records results (store.KnowVerdicts).
func knowVerdicts(ctx context.Context, s *store.Store, now time.Time) error {
	verdicts, err := s.Verdicts(ctx)
	if err != nil {
		return err
	}
	all := []store.Concluded{}
	for _, found := range append(slices.Collect(maps.Values(verdicts)), finding.Verdict{}) { // and of none yet
		for _, k := range []bounce.Known{{Outcome: bounce.Bounced, Permanent: true}, {Outcome: bounce.Complained}, {Outcome: bounce.Unsubscribed}, {Outcome: bounce.NoBounce, At: now}} {
			if v, changed := k.Verdict(found, now); changed {
				all = append(all, store.Concluded{Verdict: v})
			}
		}
	}
	return s.KnowVerdicts(ctx, all)
}

// concluded returns the result that an outcome gives an address.
func concluded(ordinal, was int32, found finding.Verdict, o store.KnownOutcome, now time.Time) (store.Concluded, bool) {
	v, changed := o.Verdict(found, now)
	return store.Concluded{Address: ordinal, Verdict: v, Was: was, Asked: []probe.Asked{Evidence(o)}}, changed
}

// withEarlier puts what hosts said before in front of what outcomes say.
func withEarlier(ctx context.Context, s *store.Store, run int64, latest *store.Latest, results []store.Concluded) error {
	var ordinals []int32
	for _, r := range results {
		if r.Was != 0 {
			ordinals = append(ordinals, r.Address)
		}
	}
	if len(ordinals) == 0 {
		return nil
	}
	earlier, err := s.Asked(ctx, run, latest, ordinals)
	for i, r := range results {
		results[i].Asked = append(slices.Clone(earlier[r.Address]), r.Asked...)
	}
	return err
}

// OfLetter is the number of the conversation of evidence that is about a letter: there was
// none.
const OfLetter = 1 << 20

// Evidence returns an outcome as evidence: the words of the host, and what they are.
func Evidence(o store.KnownOutcome) probe.Asked {
	return probe.Asked{At: o.At, Conversation: OfLetter, Reply: o.Words, Why: says(o)}
}

func says(o store.KnownOutcome) string {
	from := ""
	if o.Host != "" {
		from = ", reported by " + o.Host
	}
	switch o.Outcome {
	case bounce.Complained:
		return fmt.Sprintf("A message sent to it was reported as unwanted%s.", from)
	case bounce.Unsubscribed:
		return "Its owner asked for no more messages."
	case bounce.NoBounce:
		return "A message sent to it did not come back within the watch."
	}
	return fmt.Sprintf("A message sent to it came back for good%s.", from)
}

// Conclude returns the results that outcomes give the addresses of a run: of those with no
// result yet, the ones that bounced for good; of the others, the ones that an outcome
// changes.
func Conclude(ctx context.Context, s *store.Store, run store.Run, now time.Time) (results []store.Concluded, err error) {
	has, err := s.HasOutcomes(ctx, run.WorkspaceID)
	if err != nil || !has {
		return nil, err
	}
	verdicts, err := s.Verdicts(ctx)
	if err != nil {
		return nil, err
	}
	latest, err := s.Latest(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	whole, err := latest.Whole(ctx)
	if err != nil {
		return nil, err
	}
	err = s.OutcomesIn(ctx, run.WorkspaceID, run.ListID, func(ordinal int32, _ string, known store.KnownOutcome) error {
		was := whole.Verdict(ordinal)
		if r, changed := concluded(ordinal, was, verdicts[was], known, now); changed {
			results = append(results, r)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return results, withEarlier(ctx, s, run.ID, latest, results)
}
