// Package summary says what became of lists and runs: counts, and sentences about them,
// for the console, letters, webhooks and the report.
package summary

import (
	"context"
	"encoding/json"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/report"
	"varnet/internal/store"
)

// Source is where runs and what is known of them are read; the store is one.
type Source interface {
	decide.Source
	Progress(ctx context.Context, runs ...int64) (map[int64]store.Progress, error)
	Notices(ctx context.Context, runs ...int64) (map[int64][]store.Notice, error)
	Estimates(ctx context.Context, lists ...int64) (map[int64]json.RawMessage, error)
	Runs(ctx context.Context, workspace, list, before int64, limit int) ([]store.Run, error)
	Sessions(ctx context.Context, run int64) (int64, error)
	DomainPlaces(ctx context.Context, run store.Run, good []int32, most int) ([]store.Place, error)
	OperatorPlaces(ctx context.Context, run store.Run, good []int32, most int) ([]store.Place, error)
	Pairs(ctx context.Context, before, now int64) ([]store.VerdictPair, error)
}

// Summaries sums runs up.
type Summaries struct {
	Source Source
	// Left returns what is left of a run that goes on.
	Left func(ctx context.Context, run store.Run) (Left, error)
	// Counted remembers counts that were made row by row.
	Counted decide.Memory

	leftovers leftovers
}

// Run says where a run stands; times in its sentences are in the reader's zone.
func (s *Summaries) Run(ctx context.Context, r store.Run, l store.List, zone *time.Location) (contract.Run, error) {
	found, err := s.Runs(ctx, []store.Run{r}, map[int64]store.List{l.ID: l}, zone)
	if err != nil {
		return contract.Run{}, err
	}
	found[0].Flow = flowOf(found[0])
	return found[0], nil
}

// Runs says where some runs stand, without the pictures of their flow, which would be most
// of the page. However many they are, they take the same number of queries; more are made
// for those that go on, and once for those whose rows must be counted one by one.
func (s *Summaries) Runs(ctx context.Context, list []store.Run, lists map[int64]store.List, zone *time.Location) ([]contract.Run, error) {
	out := make([]contract.Run, len(list))
	if len(list) == 0 {
		return out, nil
	}
	k, err := s.know(ctx, list)
	if err != nil {
		return nil, err
	}
	for i, r := range list {
		if out[i], err = s.run(ctx, r, lists[r.ListID], k, zone); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// known is what is recorded of some runs.
type known struct {
	verdicts  map[int32]finding.Verdict
	overrides map[int64][]store.Override
	progress  map[int64]store.Progress
	notices   map[int64][]store.Notice
	estimates map[int64]json.RawMessage // by the list
}

func (s *Summaries) know(ctx context.Context, list []store.Run) (k known, err error) {
	runs, lists := make([]int64, len(list)), make([]int64, len(list))
	for i, r := range list {
		runs[i], lists[i] = r.ID, r.ListID
	}
	if k.progress, err = s.Source.Progress(ctx, runs...); err != nil {
		return k, err
	}
	// The verdicts after the counts, so that there is none that is not known.
	if k.verdicts, err = s.Source.Verdicts(ctx); err != nil {
		return k, err
	}
	if k.overrides, err = s.Source.Overrides(ctx, list...); err != nil {
		return k, err
	}
	if k.notices, err = s.Source.Notices(ctx, runs...); err != nil {
		return k, err
	}
	k.estimates, err = s.Source.Estimates(ctx, lists...)
	return k, err
}

func (s *Summaries) run(ctx context.Context, r store.Run, l store.List, k known, zone *time.Location) (contract.Run, error) {
	p := k.progress[r.ID]
	d, err := decide.Knowing(ctx, s.Source, r, l, r.Policy, k.verdicts, k.overrides[r.ID])
	if err != nil {
		return contract.Run{}, err
	}
	tally, err := s.Counted.Tally(ctx, d, p.Verdicts)
	if err != nil {
		return contract.Run{}, err
	}
	b := contract.Run{ID: r.ID, ListID: r.ListID, ListName: l.Name, Depth: string(r.Depth), Policy: r.Policy.Name, Version: r.Policy.Version, State: r.State,
		CreatedAt: r.CreatedAt, FinishedAt: r.FinishedAt, Addresses: l.Addresses + l.Malformed, Postponed: p.Postponed,
		NextRound: p.NextRound, Again: p.Again, Reused: r.Plan.Reused, Known: r.Plan.Known, PerMinute: p.LastMinute, Rows: l.Rows, Urgent: r.Urgent, Waits: []contract.Wait{},
		Times: contract.Times{BeginAt: &r.BeginAt, Hours: r.Hours, Zone: r.Zone, LimitMinutes: r.LimitMinutes, ResumeAt: r.ResumeAt}}
	for _, n := range p.Verdicts {
		b.Done += n
	}
	if r.Sample != nil {
		b.Addresses = int64(len(r.Sample))
	}
	b.Open = b.Addresses - b.Done
	b.Causes = causeCounts(p.Verdicts, d.Verdicts)
	for _, c := range b.Causes {
		if c.AskAgain {
			b.MayAsk += c.Addresses
		}
	}
	b.Decisions, b.ExportSentence, b.Kept = contract.Counts(tally.Counts()), tally.Sentence(policy.Keep), tally.Rows(policy.Keep)
	if r.State == store.Running && r.Plan.Done && p.Ready == 0 && p.Postponed > 0 {
		b.State = store.Waiting
	}
	if r.State == store.Running {
		if err := s.await(ctx, r, &b, zone); err != nil {
			return b, err
		}
	}
	b.Sentence = runSentence(b, zone)
	b.Notices = append(happenings(k.notices[r.ID], zone), notices(b)...)
	b.Estimate, err = estimated(b, k.estimates[l.ID])
	return b, err
}

// flowOf lays out the picture of a run.
func flowOf(b contract.Run) *contract.Flow {
	causes := contract.Each(b.Causes, func(c contract.CauseCount) report.Cause {
		return report.Cause{Finding: c.Finding, Code: c.Cause, Stage: c.Stage, Title: c.Title, Addresses: c.Addresses}
	})
	f := report.FlowOf(b.Addresses, b.Open, causes)
	return &contract.Flow{Says: f.Says, Width: report.FlowWidth, Height: report.FlowHeight,
		Shapes: contract.Each(f.Shapes, func(s report.Shape) contract.FlowShape {
			return contract.FlowShape{Tone: s.Tone, Path: s.SVG(), FlowFilter: contract.FlowFilter(s.Of)}
		}),
		Columns: contract.Each(f.Columns, func(c report.Column) contract.FlowColumn {
			return contract.FlowColumn{Name: c.Name, X: c.X, Lines: contract.Each(c.Lines, func(l report.Label) contract.FlowLine {
				return contract.FlowLine{Tone: l.Tone, Text: l.Text, FlowFilter: contract.FlowFilter(l.Of)}
			})}
		})}
}

// causeCounts adds up addresses by finding and cause, in the order of the
// stages and then of the findings.
func causeCounts(counts map[int32]int64, verdicts map[int32]finding.Verdict) []contract.CauseCount {
	type kind struct {
		f finding.Finding
		c finding.Cause
	}
	sums := map[kind]int64{}
	for id, n := range counts {
		v := verdicts[id]
		sums[kind{v.Finding, v.Cause}] += n
	}
	out := []contract.CauseCount{}
	for _, info := range finding.Causes() {
		for _, f := range finding.Findings() {
			if n := sums[kind{f, info.Code}]; n > 0 {
				out = append(out, contract.CauseCount{Finding: f, Cause: info.Code, Stage: info.Stage, Title: info.Title, Addresses: n, AskAgain: info.AskAgain})
			}
		}
	}
	return out
}
