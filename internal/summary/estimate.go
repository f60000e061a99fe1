package summary

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"varnet/core/estimate"
	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// EstimateOf says from the verdicts of a sample what a list will come to under
// the careful policy. Malformed texts need no sample: they are counted.
func EstimateOf(l store.List, sampled int64, counts map[int32]int64, verdicts map[int32]finding.Verdict) contract.Estimate {
	e := contract.Estimate{Addresses: l.Addresses + l.Malformed, Sampled: sampled, At: time.Now()}
	by, kept, answered := map[finding.Finding]int64{}, int64(0), int64(0)
	for id, n := range counts {
		by[verdicts[id].Finding] += n
		answered += n
		if policy.Careful().Decide(policy.Row{Verdict: verdicts[id]}).Decision == policy.Keep {
			kept += n
		}
	}
	e.Late = sampled - answered
	whole := func(s estimate.Share, malformed int64) estimate.Share {
		part := float64(l.Addresses) / float64(e.Addresses)
		more := float64(malformed) / float64(e.Addresses)
		return estimate.Share{Low: s.Low*part + more, High: s.High*part + more}
	}
	left := whole(estimate.Of(answered-kept, answered, l.Addresses), l.Malformed)
	e.LeftOut = contract.Share(left)
	var parts []string
	for _, f := range []finding.Finding{finding.Undeliverable, finding.CatchAll, finding.Undecided, finding.Deliverable} {
		malformed := int64(0)
		if f == finding.Undeliverable {
			malformed = l.Malformed
		}
		share := whole(estimate.Of(by[f], answered, l.Addresses), malformed)
		e.Findings = append(e.Findings, contract.EstimatedShare{Finding: f, Share: contract.Share(share)})
		if f != finding.Deliverable && by[f]+malformed > 0 {
			parts = append(parts, share.Percent()+" are "+string(f))
		}
	}
	e.Sentence = fmt.Sprintf("Of the %s addresses %s will not be kept", say.Number(e.Addresses), left.Percent())
	if len(parts) > 0 {
		e.Sentence += ": " + strings.Join(parts, ", ")
	}
	e.Sentence += fmt.Sprintf(". This is estimated from a sample of %s, drawn over all domains", say.Number(sampled))
	if e.Late > 0 {
		e.Sentence += fmt.Sprintf("; %s of them did not answer in time", say.Number(e.Late))
	}
	e.Sentence += "."
	return e
}

// estimated says what the quick estimate of the run's list was, beside what
// became of it.
func estimated(b contract.Run, saved json.RawMessage) (string, error) {
	if saved == nil {
		return "", nil
	}
	var e contract.Estimate
	err := json.Unmarshal(saved, &e)
	if err != nil || b.FinishedAt == nil || b.Done == 0 {
		return e.Sentence, err
	}
	left := int64(0)
	for _, c := range b.Decisions {
		if c.Decision != policy.Keep && c.Code != policy.NoAddress && c.Code != policy.Duplicate {
			left += c.Rows
		}
	}
	return fmt.Sprintf("Estimated before, from a sample of %s: %s of the addresses are not kept. It became %.1f %% of %s.", say.Number(e.Sampled),
		estimate.Share(e.LeftOut).Percent(), 100*float64(left)/float64(b.Addresses), say.Number(b.Addresses)), nil
}
