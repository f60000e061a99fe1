package summary

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/report"
	"varnet/internal/store"
)

// largest is how many domains and operators the report names.
const largest = 6

// Report gathers what the report of a run says; its times are in the reader's zone.
func (s *Summaries) Report(ctx context.Context, run store.Run, l store.List, zone *time.Location) (report.Report, error) {
	b, err := s.Run(ctx, run, l, zone)
	if err != nil {
		return report.Report{}, err
	}
	r := report.Report{List: l.Name, File: cmp.Or(l.FileName, "none"), Run: run.ID, Began: run.CreatedAt.In(zone), Made: time.Now().In(zone),
		Depth: string(run.Depth), Policy: run.Policy.Name, Addresses: b.Addresses, Open: b.Open,
		Read: List(l), Kept: b.ExportSentence, Decisions: contract.Each(b.Decisions, func(c contract.Count) policy.Count { return policy.Count(c) }), Says: run.Policy.Says()}
	if run.Policy.Version > 0 {
		r.Policy += fmt.Sprintf(", version %d", run.Policy.Version)
	}
	if run.FinishedAt != nil {
		r.Ended = run.FinishedAt.In(zone)
	}
	for _, c := range b.Causes {
		info, _ := finding.Lookup(c.Cause)
		r.Causes = append(r.Causes, report.Cause{Finding: c.Finding, Code: c.Cause, Stage: c.Stage, Title: c.Title, Meaning: info.Meaning, Addresses: c.Addresses})
	}
	if r.Domains, r.Operators, err = s.places(ctx, run); err != nil {
		return r, err
	}
	if r.Work, err = s.workDone(ctx, run, b); err != nil {
		return r, err
	}
	r.Changes, err = s.changes(ctx, run, l)
	return r, err
}

// places returns the largest domains and operators.
func (s *Summaries) places(ctx context.Context, run store.Run) (domains, operators []report.Place, err error) {
	verdicts, err := s.Source.Verdicts(ctx)
	if err != nil {
		return nil, nil, err
	}
	good := decide.VerdictsWhere(verdicts, func(v finding.Verdict) bool { return v.Finding == finding.Deliverable })
	for _, of := range []struct {
		read func(context.Context, store.Run, []int32, int) ([]store.Place, error)
		to   *[]report.Place
	}{{s.Source.DomainPlaces, &domains}, {s.Source.OperatorPlaces, &operators}} {
		found, err := of.read(ctx, run, good, largest)
		if err != nil {
			return nil, nil, err
		}
		for _, p := range found {
			*of.to = append(*of.to, report.Place(p))
		}
	}
	return domains, operators, nil
}

// workDone says what was asked and how long it took.
func (s *Summaries) workDone(ctx context.Context, run store.Run, b contract.Run) (said []string, err error) {
	asked := int64(0)
	for _, c := range b.Causes {
		if c.Stage == finding.StageExchanger || c.Stage == finding.StageMailbox {
			asked += c.Addresses
		}
	}
	sessions, err := s.Source.Sessions(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	asked -= min(asked, b.Reused)
	said = append(said, fmt.Sprintf("Of the %s addresses, mail hosts were asked about %s, in %s sessions; %s were concluded without asking.",
		say.Number(b.Addresses), say.Number(asked), say.Number(sessions), say.Number(b.Done-asked-b.Reused)))
	if b.Reused > 0 {
		said[0] = strings.TrimSuffix(said[0], ".") + fmt.Sprintf(", and %s were reused from earlier runs.", say.Number(b.Reused))
	}
	if run.FinishedAt != nil {
		said[0] += " It took " + say.Duration(run.FinishedAt.Sub(run.CreatedAt)) + "."
	}
	if n := len(b.Notices); n > 0 {
		said = append(said, "Notice: "+b.Notices[0])
	}
	return said, nil
}

// told is how many kinds of changes the report tells.
const told = 4

// changes says what changed since the run of the list before.
func (s *Summaries) changes(ctx context.Context, run store.Run, l store.List) ([]string, error) {
	before, err := s.Source.Runs(ctx, run.WorkspaceID, l.ID, run.ID, 1)
	if err != nil || len(before) == 0 {
		return nil, err
	}
	found, err := s.Source.Pairs(ctx, before[0].ID, run.ID)
	if err != nil {
		return nil, err
	}
	verdicts, err := s.Source.Verdicts(ctx)
	if err != nil {
		return nil, err
	}
	type move struct{ from, to finding.Finding }
	moves, all := map[move]int64{}, int64(0)
	for _, c := range found {
		if m := (move{verdicts[c.From].Finding, verdicts[c.To].Finding}); m.from != m.to {
			moves[m] += c.Addresses
			all += c.Addresses
		}
	}
	if all == 0 {
		return []string{fmt.Sprintf("No address has another finding than in run %d.", before[0].ID)}, nil
	}
	order := make([]move, 0, len(moves))
	for m := range moves {
		order = append(order, m)
	}
	slices.SortFunc(order, func(x, y move) int {
		return cmp.Or(cmp.Compare(moves[y], moves[x]), cmp.Compare(x.from+x.to, y.from+y.to))
	})
	var parts []string
	for _, m := range order[:min(told, len(order))] {
		parts = append(parts, fmt.Sprintf("%s from %s to %s", say.Number(moves[m]), m.from, m.to))
	}
	said := fmt.Sprintf("%s of %s addresses changed their finding since run %d: %s", say.Number(all), say.Number(l.Addresses+l.Malformed), before[0].ID, strings.Join(parts, ", "))
	if more := len(order) - told; more > 0 {
		said += fmt.Sprintf(", and %d more kinds of change", more)
	}
	return []string{said + "."}, nil
}
