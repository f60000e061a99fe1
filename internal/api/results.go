package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/catalogue"
	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/probe"
	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerResults(h huma.API) {
	huma.Register(h, operation("results", http.MethodGet, "/runs/{id}/results", "The results of a run, in the order of the list"), a.results)
	huma.Register(h, operation("evidence", http.MethodGet, "/runs/{id}/results/{address}", "One result with all that was seen"), a.evidence)
	huma.Register(h, operation("words", http.MethodGet, "/words", "All causes and traits with their words"),
		func(context.Context, *struct{}) (*struct{ Body contract.Words }, error) {
			return &struct{ Body contract.Words }{contract.Words{Causes: finding.Causes(), Traits: finding.TraitInfos()}}, nil
		})
}

type resultsInput struct {
	ByID
	Finding  string `query:"finding" doc:"Only this finding."`
	Cause    string `query:"cause" doc:"Only this cause."`
	Stage    string `query:"stage" doc:"Only causes of this stage."`
	Trait    string `query:"trait" doc:"Only with this trait."`
	Decision string `query:"decision" doc:"Only with this decision under the run's policy."`
	Search   string `query:"search" maxLength:"200" doc:"Only addresses with this text in them."`
	After    int32  `query:"after" minimum:"0" doc:"Gives what comes after this address number; 0: from the start."`
	Limit    int    `query:"limit" minimum:"1" maximum:"500" default:"100" doc:"How many at the most."`
}

// fits tells whether a verdict passes the filter.
func (in *resultsInput) fits(v finding.Verdict, p policy.Policy) bool {
	return (in.Finding == "" || in.Finding == string(v.Finding)) &&
		(in.Cause == "" || in.Cause == string(v.Cause)) &&
		(in.Stage == "" || in.Stage == string(v.Cause.Stage())) &&
		(in.Trait == "" || v.Traits.Has(finding.Trait(in.Trait))) &&
		(in.Decision == "" || in.Decision == string(p.Decide(v).Decision))
}

func (a *API) results(ctx context.Context, in *resultsInput) (*struct{ Body []contract.Result }, error) {
	run, verdicts, p, err := a.runVerdicts(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	filter := store.ResultFilter{Search: strings.TrimSpace(in.Search), After: in.After, Limit: in.Limit,
		Verdicts: verdictsWhere(verdicts, func(v finding.Verdict) bool { return in.fits(v, p) })}
	found, err := a.store.Results(ctx, run, filter)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	c, err := a.suggester(ctx, run)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := make([]contract.Result, 0, len(found))
	for _, r := range found {
		out = append(out, resultBody(r, verdicts[r.Verdict], p, c))
	}
	return &struct{ Body []contract.Result }{out}, nil
}

// runVerdicts reads a run with all verdicts there are and its policy.
func (a *API) runVerdicts(ctx context.Context, id int64) (store.Run, map[int32]finding.Verdict, policy.Policy, error) {
	run, err := a.store.Run(ctx, workspace(ctx).ID, id)
	if err != nil {
		return run, nil, policy.Policy{}, err
	}
	verdicts, p, err := a.verdictsOf(ctx, run)
	return run, verdicts, p, err
}

// verdictsOf gives all verdicts there are and the policy of a run.
func (a *API) verdictsOf(ctx context.Context, run store.Run) (map[int32]finding.Verdict, policy.Policy, error) {
	verdicts, err := a.store.Verdicts(ctx)
	if err != nil {
		return nil, policy.Policy{}, err
	}
	p, err := policy.Named(run.Policy)
	return verdicts, p, err
}

// suggester gives the domains that may have been meant in a list.
func (a *API) suggester(ctx context.Context, run store.Run) (*catalogue.Catalogue, error) {
	frequent, err := a.store.FrequentDomains(ctx, run.ListID, catalogue.Frequent)
	return catalogue.Default().Beside(frequent), err
}

func resultBody(r store.Result, v finding.Verdict, p policy.Policy, c *catalogue.Catalogue) contract.Result {
	b := verdictBody(v, p)
	b.Address, b.Typed, b.At = r.Address, r.Typed, r.At
	if r.Mailbox != nil {
		b.Mailbox, b.Domain = *r.Mailbox, *r.Domain
		b.Suggestion = suggestion(b.Mailbox, c.Suggest(b.Domain))
	}
	return b
}

// suggestion is the mailbox at the suggested domain.
func suggestion(mailbox, domain string) string {
	if domain == "" {
		return ""
	}
	return mailbox[:strings.LastIndexByte(mailbox, '@')+1] + domain
}

func verdictBody(v finding.Verdict, p policy.Policy) contract.Result {
	info, _ := finding.Lookup(v.Cause)
	traits := []finding.Trait(v.Traits)
	if traits == nil {
		traits = []finding.Trait{}
	}
	return contract.Result{Finding: v.Finding, Cause: v.Cause, Title: info.Title, Traits: traits, Odds: v.Odds, Decision: p.Decide(v).Decision}
}

func withWords(r contract.Result) contract.Evidence {
	info, _ := finding.Lookup(r.Cause)
	return contract.Evidence{Result: r, Meaning: info.Meaning, Advice: info.Advice,
		Factors: finding.Factors(r.Finding, r.Cause, r.Traits)}
}

func (a *API) evidence(ctx context.Context, in *struct {
	ByID
	Address int32 `path:"address" doc:"The address's number in its list."`
}) (*struct{ Body contract.Evidence }, error) {
	run, verdicts, p, err := a.runVerdicts(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	r, err := a.store.FullResult(ctx, run, in.Address)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	c, err := a.suggester(ctx, run)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	e := withWords(resultBody(r.Result, verdicts[r.Verdict], p, c))
	e.Line, e.Mended = r.Line, r.Mended
	if r.Problem != nil {
		e.Problem = r.Problem.Reason
	}
	if err := a.addHosts(ctx, run, r, &e); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Evidence }{e}, nil
}

// addHosts adds what the name service and the mail hosts said.
func (a *API) addHosts(ctx context.Context, run store.Run, r store.FullResult, e *contract.Evidence) error {
	if e.Domain == "" {
		return nil
	}
	domains, err := a.store.RunDomains(ctx, run.ID, []string{e.Domain})
	if err != nil {
		return err
	}
	for _, d := range domains {
		e.DNS, e.Operator = &d.Facts, d.Operator
	}
	var ids []int64
	for _, q := range r.Evidence.Asked {
		ids = append(ids, q.Parcel)
	}
	records, err := a.store.ParcelRecords(ctx, run.ID, ids)
	if err != nil {
		return err
	}
	for _, q := range r.Evidence.Asked {
		record := records[q.Parcel]
		e.Asked = append(e.Asked, askedBody(q, record.Conversations))
		if m, ok := record.Manners[e.Domain]; ok {
			e.Manner, e.MannerSays = &m, m.Accepts.Sentence() // the last round's stands
		}
	}
	return nil
}

func askedBody(q probe.Asked, conversations []probe.Conversation) contract.Asked {
	b := contract.Asked{At: q.At, TookMS: q.TookMS, Reply: q.Reply, Why: q.Why}
	if 0 <= q.Conversation && q.Conversation < len(conversations) {
		b.Conversation = &conversations[q.Conversation]
	}
	return b
}
