package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/probe"
	"varnet/internal/account"
	"varnet/internal/bounce"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/export"
	"varnet/internal/store"
)

func (a *API) registerResults(h huma.API) {
	huma.Register(h, operation("get-results", http.MethodGet, "/runs/{id}/results", "The results of a run, in the order of the list"), a.results)
	huma.Register(h, operation("get-evidence", http.MethodGet, "/runs/{id}/results/{ordinal}", "One result with all that was seen"), a.evidence)
	huma.Register(h, operation("find-result", http.MethodPost, "/runs/{id}/results/find", "The result of an address, with all that was seen"), a.findResult)
	huma.Register(h, operation("describe-filter", http.MethodGet, "/filter", "What a filter chooses, in words"), filterSentence)
	huma.Register(h, operation("get-glossary", http.MethodGet, "/glossary", "All causes and traits with their words"),
		func(context.Context, *struct{}) (*struct{ Body contract.Words }, error) {
			return &struct{ Body contract.Words }{allWords()}, nil
		})
}

// allWords is the registry: all causes and traits with their words.
func allWords() contract.Words {
	return contract.Words{Causes: contract.Each(finding.Causes(), func(c finding.CauseInfo) contract.CauseInfo { return contract.CauseInfo(c) }),
		Traits: contract.Each(finding.TraitInfos(), func(t finding.TraitInfo) contract.TraitInfo { return contract.TraitInfo(t) }),
		Roles:  contract.Each(account.Roles(), func(x account.Role) contract.RoleInfo { return contract.RoleInfo{Code: string(x), Says: x.Says()} }),
		Scopes: contract.Each(account.Scopes(), func(x account.Scope) contract.ScopeInfo {
			return contract.ScopeInfo{Code: string(x), Says: x.Says()}
		})}
}

func filterSentence(_ context.Context, in *struct{ decide.Filter }) (*struct{ Body contract.FilterSentence }, error) {
	words := in.Words()
	if words == "" {
		return &struct{ Body contract.FilterSentence }{contract.FilterSentence{Sentence: "All addresses of the list that are concluded."}}, nil
	}
	return &struct{ Body contract.FilterSentence }{contract.FilterSentence{Sentence: "The addresses " + words + "."}}, nil
}

type resultsInput struct {
	ByID
	decide.Filter
	Cursor
	Limit
}

func (a *API) results(ctx context.Context, in *resultsInput) (*pageOutput[contract.Result], error) {
	after := int32(0)
	if err := in.place(&after); err != nil {
		return nil, err
	}
	d, err := a.decider(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	c, err := export.Suggester(ctx, a.store, d.Run.ListID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	found, err := d.Results(ctx, in.Filter, after, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := make([]contract.Result, len(found))
	for i, r := range found {
		out[i] = resultBody(r, d, c)
	}
	return pageOf(out, in.Limit.Limit, func(r contract.Result) any { return r.Ordinal }), nil
}

// decider returns what rules on the rows of a run under its own policy; it may read from a replica.
func (a *API) decider(ctx context.Context, id int64) (*decide.Decider, error) {
	run, l, err := a.runAndList(ctx, id)
	if err != nil {
		return nil, err
	}
	return decide.New(ctx, a.store.Reading(ctx), run, l, run.Policy)
}

func resultBody(r decide.Result, d *decide.Decider, c *catalogue.Catalogue) contract.Result {
	b := verdictBody(d.Verdicts[r.Verdict], r.Decision)
	b.Ordinal, b.Typed, b.At = r.Address, r.Typed, r.At
	_, b.Overridden = d.Override(r.Address)
	if r.Mailbox != nil {
		b.Mailbox, b.Domain = *r.Mailbox, *r.Domain
		b.Suggestion = export.Suggestion(b.Mailbox, c.Suggest(b.Domain))
	}
	return b
}

func verdictBody(v finding.Verdict, d policy.Decision) contract.Result {
	info, _ := finding.Lookup(v.Cause)
	traits := []finding.Trait(v.Traits)
	if traits == nil {
		traits = []finding.Trait{}
	}
	return contract.Result{Finding: v.Finding, Cause: v.Cause, Title: info.Title, Traits: traits, Odds: v.Odds, Decision: d}
}

func withWords(r contract.Result, factors []finding.Factor) contract.Evidence {
	info, _ := finding.Lookup(r.Cause)
	return contract.Evidence{Result: r, Meaning: info.Meaning, Advice: info.Advice,
		Factors: contract.Each(factors, func(f finding.Factor) contract.Factor { return contract.Factor(f) })}
}

func (a *API) evidence(ctx context.Context, in *struct {
	ByID
	Ordinal int32 `path:"ordinal" minimum:"1" doc:"The result's ordinal."`
}) (*struct{ Body contract.Evidence }, error) {
	d, err := a.decider(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.evidenceOf(ctx, d, in.Ordinal)
}

func (a *API) findResult(ctx context.Context, in *struct {
	ByID
	Body contract.OneAddress
}) (*struct{ Body contract.Evidence }, error) {
	d, err := a.decider(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	read, err := address.Parse(in.Body.Address)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	ordinals, err := a.store.Numbers(ctx, d.List.ID, []string{read.Mailbox()})
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if len(ordinals) == 0 {
		return nil, huma.Error404NotFound("The list has no such address.")
	}
	return a.evidenceOf(ctx, d, ordinals[0])
}

func (a *API) evidenceOf(ctx context.Context, d *decide.Decider, ordinal int32) (*struct{ Body contract.Evidence }, error) {
	r, err := a.store.FullResult(ctx, d.Run, ordinal)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	c, err := export.Suggester(ctx, a.store, d.Run.ListID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	decisions, err := d.Decisions(ctx, []store.Result{r.Result})
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	factors, err := a.engine.Odds.Explain(ctx, d.Run, d.List, ordinal, d.Verdicts[r.Verdict])
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	e := withWords(resultBody(decide.Result{Result: r.Result, Decision: decisions[0]}, d, c), factors)
	e.Line, e.Mended = r.Line, r.Mended
	if r.Problem != nil {
		e.Problem = r.Problem.Reason
	}
	if err := a.addHosts(ctx, d.Run, r, &e); err != nil {
		return nil, a.failed(ctx, err)
	}
	if err := a.addHistory(ctx, d, &e); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Evidence }{e}, nil
}

// addHistory adds what other runs found of the address.
func (a *API) addHistory(ctx context.Context, d *decide.Decider, e *contract.Evidence) error {
	if e.Mailbox == "" {
		return nil
	}
	found, err := a.store.Pasts(ctx, d.Run.WorkspaceID, d.Run, e.Mailbox)
	for _, p := range found {
		v := d.Verdicts[p.Verdict]
		info, _ := finding.Lookup(v.Cause)
		e.History = append(e.History, contract.Past{RunID: p.RunID, ListID: p.ListID, ListName: p.ListName, At: p.At, Finding: v.Finding, Title: info.Title})
	}
	return err
}

// addHosts adds what DNS and the mail hosts said.
func (a *API) addHosts(ctx context.Context, run store.Run, r store.FullResult, e *contract.Evidence) error {
	if e.Domain == "" {
		return nil
	}
	domains, err := a.store.RunDomains(ctx, run.ID, []string{e.Domain})
	if err != nil {
		return err
	}
	for _, of := range domains {
		dns := contract.DomainOf(of.Facts)
		e.DNS, e.Operator = &dns, of.Operator
	}
	var ids []int64
	for _, q := range r.Asked {
		ids = append(ids, q.Parcel)
	}
	records, err := a.store.ParcelRecords(ctx, run.ID, ids)
	if err != nil {
		return err
	}
	for _, q := range r.Asked {
		record := records[q.Parcel]
		e.Asked = append(e.Asked, askedBody(q, record.Conversations))
		if known := record.Acceptance(e.Domain, q.Conversation); known != nil {
			addAcceptance(e, *known) // the last round's holds
		}
	}
	return nil
}

func addAcceptance(e *contract.Evidence, known probe.Acceptance) {
	a := contract.AcceptanceOf(known)
	e.Acceptance, e.AcceptanceSays = &a, known.Accepts.Sentence()
}

func askedBody(q probe.Asked, conversations []probe.Conversation) contract.Asked {
	b := contract.Asked{At: q.At, TookMS: q.TookMS, Reply: q.Reply, Why: q.Why, Letter: q.Conversation == bounce.OfLetter}
	if 0 <= q.Conversation && q.Conversation < len(conversations) {
		c := contract.ConversationOf(conversations[q.Conversation])
		b.Conversation = &c
	}
	return b
}
