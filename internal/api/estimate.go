package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/estimate"
	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
)

type estimateOutput struct{ Body contract.Estimate }

func (a *API) registerEstimate(h huma.API) {
	huma.Register(h, operation("make-estimate", http.MethodPost, "/lists/{id}/estimate", "Tell from a sample what a list will come to; takes up to half a minute"), a.makeEstimate)
	huma.Register(h, operation("estimate", http.MethodGet, "/lists/{id}/estimate", "The last quick estimate of a list"), a.estimate)
}

func (a *API) estimate(ctx context.Context, in *ByID) (*estimateOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	var e contract.Estimate
	if err == nil {
		err = a.store.Estimate(ctx, l.ID, &e)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &estimateOutput{e}, nil
}

func (a *API) makeEstimate(ctx context.Context, in *ByID) (*estimateOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	run, err := a.engine.Sample(ctx, l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	p, err := a.store.Progress(ctx, run.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	verdicts, err := a.store.Verdicts(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	e := estimateOf(l, int64(len(run.Sample)), p.Verdicts, verdicts)
	if err := a.store.SaveEstimate(ctx, l.ID, e); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &estimateOutput{e}, nil
}

// estimateOf tells from the verdicts of a sample what a list will come to under
// the careful policy. Malformed texts need no sample: they are counted.
func estimateOf(l store.List, sampled int64, counts map[int32]int64, verdicts map[int32]finding.Verdict) contract.Estimate {
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
	e.LeftOut = whole(estimate.Of(answered-kept, answered, l.Addresses), l.Malformed)
	var parts []string
	for _, f := range []finding.Finding{finding.Undeliverable, finding.CatchAll, finding.Undecided, finding.Deliverable} {
		malformed := int64(0)
		if f == finding.Undeliverable {
			malformed = l.Malformed
		}
		share := whole(estimate.Of(by[f], answered, l.Addresses), malformed)
		e.Findings = append(e.Findings, contract.EstimatedShare{Finding: f, Share: share})
		if f != finding.Deliverable && by[f]+malformed > 0 {
			parts = append(parts, share.Percent()+" are "+string(f))
		}
	}
	e.Sentence = fmt.Sprintf("Of the %s addresses %s will not be kept", say.Number(e.Addresses), e.LeftOut.Percent())
	if len(parts) > 0 {
		e.Sentence += ": " + strings.Join(parts, ", ")
	}
	e.Sentence += fmt.Sprintf(". This is told by a sample of %s, drawn over all domains", say.Number(sampled))
	if e.Late > 0 {
		e.Sentence += fmt.Sprintf("; %s of them did not answer in time", say.Number(e.Late))
	}
	e.Sentence += "."
	return e
}

// estimated says what the quick estimate of the run's list was, beside what
// became of it.
func (a *API) estimated(ctx context.Context, b contract.Run) (string, error) {
	var e contract.Estimate
	err := a.store.Estimate(ctx, b.ListID, &e)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
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
		e.LeftOut.Percent(), 100*float64(left)/float64(b.Addresses), say.Number(b.Addresses)), nil
}
