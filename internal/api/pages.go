package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/finding"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
	"varnet/internal/summary"
)

func (a *API) registerPages(h huma.API) {
	huma.Register(h, operation("get-list-rows", http.MethodGet, "/lists/{id}/rows", "A page of a list's rows as they were imported"), a.listRows)
	huma.Register(h, operation("get-run-domains", http.MethodGet, "/runs/{id}/domains", "The domains of a run's list, the largest first"), a.domains)
	huma.Register(h, operation("get-run-operators", http.MethodGet, "/runs/{id}/operators", "The operators of a run's domains, the largest first"), a.operatorsOfRun)
	huma.Register(h, operation("get-result-ages", http.MethodGet, "/runs/{id}/ages", "How old the results of a run are"), a.resultAges)
	huma.Register(h, operation("compare-runs", http.MethodGet, "/runs/{id}/compare/{other}", "What changed from an earlier run to this one, of the addresses that are in both"), a.compare)
}

func (a *API) listRows(ctx context.Context, in *struct {
	ByID
	Cursor
	Limit
	Skip int32 `query:"skip" minimum:"0" doc:"Without a cursor: how many rows come before, in the order that is asked for."`
	By   int   `query:"by" minimum:"0" maximum:"10000" doc:"In the order of this column, from 1; 0: as in the file."`
	Down bool  `query:"down" doc:"The largest first."`
}) (*pageOutput[contract.ListRow], error) {
	after := in.Skip
	if err := in.place(&after); err != nil {
		return nil, err
	}
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if in.By > len(l.Columns) {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("The list has %d columns; there is no column %d.", len(l.Columns), in.By))
	}
	numbers, err := a.rowsFrom(ctx, l, after, in.Limit.Limit, in.By, in.Down)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	rows, err := a.store.Reading(ctx).RawRows(ctx, l, numbers)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out, kept, each := make([]contract.ListRow, len(rows)), l.Dialect.Kept(), int32(len(l.AddressColumns))
	for i, r := range rows {
		cells := make([]string, len(l.Columns))
		for c := range cells {
			cells[c] = kept.Cell(r.Raw, c)
		}
		out[i] = contract.ListRow{Row: (r.Ordinal-1)/each + 1, Line: r.Line, Cells: cells}
	}
	return pageOf(out, in.Limit.Limit, func(contract.ListRow) any { return after + int32(len(out)) }), nil
}

// rowsFrom returns the numbers of the rows of a page.
func (a *API) rowsFrom(ctx context.Context, l store.List, after int32, limit, by int, down bool) ([]int32, error) {
	n := min(limit, max(0, int(l.Rows)-int(after)))
	page := make([]int32, n)
	if by == 0 {
		for i := range page {
			page[i] = after + int32(i) + 1
			if down {
				page[i] = int32(l.Rows) - after - int32(i)
			}
		}
		return page, nil
	}
	order, err := a.orderOf(ctx, l, by-1)
	for i := range page {
		place := int(after) + i
		if down {
			place = len(order) - 1 - place
		}
		if 0 <= place && place < len(order) {
			page[i] = order[place]
		}
	}
	return page, err
}

func (a *API) domains(ctx context.Context, in *struct {
	ByID
	Search string `query:"search" maxLength:"255" doc:"Only domains with this text in the name."`
	Cursor
	Limit
}) (*pageOutput[contract.DomainCount], error) {
	var last store.DomainSize
	if err := in.place(&last); err != nil {
		return nil, err
	}
	r, l, err := a.runAndList(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	db := a.store.Reading(ctx)
	sizes, err := db.Domains(ctx, l.ID, in.Search, last, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	names := make([]string, len(sizes))
	for i, d := range sizes {
		names[i] = d.Domain
	}
	facts, err := db.RunDomains(ctx, r.ID, names)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	counts, err := db.DomainVerdicts(ctx, r, names)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	verdicts, err := db.Verdicts(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := make([]contract.DomainCount, len(sizes))
	for i, d := range sizes {
		out[i] = contract.DomainCount{Domain: d.Domain, Addresses: int64(d.Addresses), Exchangers: []string{}, Findings: byFinding(counts[d.Domain], verdicts)}
		if at := slices.IndexFunc(facts, func(f store.RunDomain) bool { return f.Domain == d.Domain }); at >= 0 {
			f := facts[at]
			out[i].Operator, out[i].Exchangers = f.Operator, append(out[i].Exchangers, f.Facts.Hosts()...)
			if len(f.Acceptances) > 0 {
				out[i].Acceptance, out[i].Since = f.Acceptances[0].Accepts.Sentence(), &f.Acceptances[0].At
			}
		}
	}
	return pageOf(out, in.Limit.Limit, func(d contract.DomainCount) any {
		return store.DomainSize{Domain: d.Domain, Addresses: int32(d.Addresses)}
	}), nil
}

func (a *API) operatorsOfRun(ctx context.Context, in *struct {
	ByID
	Search string `query:"search" maxLength:"255" doc:"Only operators with this text in the name."`
	Cursor
	Limit
}) (*pageOutput[contract.OperatorCount], error) {
	var last store.OperatorSize
	if err := in.place(&last); err != nil {
		return nil, err
	}
	r, err := a.store.Run(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	db := a.store.Reading(ctx)
	sizes, err := db.OperatorSizes(ctx, r, in.Search, last, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	names := make([]string, len(sizes))
	for i, o := range sizes {
		names[i] = o.Operator
	}
	counts, err := db.OperatorVerdicts(ctx, r, names)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	verdicts, err := db.Verdicts(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := make([]contract.OperatorCount, len(sizes))
	for i, o := range sizes {
		out[i] = contract.OperatorCount{Operator: o.Operator, Domains: o.Domains, Addresses: o.Addresses, Findings: byFinding(counts[o.Operator], verdicts)}
	}
	return pageOf(out, in.Limit.Limit, func(o contract.OperatorCount) any {
		return store.OperatorSize{Operator: o.Operator, Addresses: o.Addresses}
	}), nil
}

// byFinding adds up addresses by finding.
func byFinding(counts map[int32]int64, verdicts map[int32]finding.Verdict) []contract.FindingAddresses {
	sums := map[finding.Finding]int64{}
	for id, n := range counts {
		sums[verdicts[id].Finding] += n
	}
	out := []contract.FindingAddresses{}
	for _, f := range finding.Findings() {
		if sums[f] > 0 {
			out = append(out, contract.FindingAddresses{Finding: f, Addresses: sums[f]})
		}
	}
	return out
}

// mostChanged is how many addresses a comparison names.
const mostChanged = 200

func (a *API) compare(ctx context.Context, in *struct {
	ByID
	Other int64 `path:"other" doc:"The run to compare with, the earlier one."`
}) (*struct{ Body contract.Comparison }, error) {
	r, err := a.store.Run(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	other, err := a.store.Run(ctx, workspace(ctx).ID, in.Other)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	db := a.store.Reading(ctx)
	moved, err := db.Moves(ctx, other, r)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	verdicts, err := db.Verdicts(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	c, changed := comparisonOf(moved.Pairs, verdicts)
	rows, err := db.ChangedResults(ctx, other, r, changed, mostChanged)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	for _, x := range rows {
		to := verdicts[x.To]
		c.Rows = append(c.Rows, contract.Changed{Ordinal: x.Address, Typed: x.Typed, From: verdicts[x.From].Finding, To: to.Finding, Title: titleOf(to.Cause)})
	}
	c.Sentence = compareSentence(c, other.ID, r.ID)
	return &struct{ Body contract.Comparison }{c}, nil
}

func (a *API) resultAges(ctx context.Context, in *ByID) (*struct{ Body contract.ResultAges }, error) {
	r, err := a.store.Run(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	counts, mean, err := a.store.Ages(ctx, r.ID, a.engine.Clock.Now(), summary.AgeBounds())
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.ResultAges }{summary.Ages(counts, mean)}, nil
}

func titleOf(c finding.Cause) string {
	info, _ := finding.Lookup(c)
	return info.Title
}

// comparisonOf adds up the pairs by finding, and gives those that changed.
func comparisonOf(pairs []store.VerdictPair, verdicts map[int32]finding.Verdict) (c contract.Comparison, changed []store.VerdictPair) {
	type move struct{ from, to finding.Finding }
	moves := map[move]int64{}
	for _, p := range pairs {
		c.Both += p.Addresses
		m := move{verdicts[p.From].Finding, verdicts[p.To].Finding}
		if m.from != m.to {
			moves[m] += p.Addresses
			changed = append(changed, p)
		}
	}
	c.Changes, c.Rows = []contract.Change{}, []contract.Changed{}
	for m, n := range moves {
		c.Changes = append(c.Changes, contract.Change{From: m.from, To: m.to, Addresses: n})
	}
	slices.SortFunc(c.Changes, func(a, b contract.Change) int {
		return cmp.Or(cmp.Compare(b.Addresses, a.Addresses), cmp.Compare(a.From+a.To, b.From+b.To))
	})
	return c, changed
}

func compareSentence(c contract.Comparison, from, to int64) string {
	sum := int64(0)
	for _, m := range c.Changes {
		sum += m.Addresses
	}
	if sum == 0 {
		return fmt.Sprintf("All %s addresses that both runs have a result of have the same finding in runs %d and %d.", say.Number(c.Both), from, to)
	}
	return fmt.Sprintf("%s of the %s addresses that both runs have a result of changed from run %d to run %d.", say.Number(sum), say.Number(c.Both), from, to)
}
