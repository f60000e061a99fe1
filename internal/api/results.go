package api

import (
	"context"
	"net/http"
	"slices"
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
	contract.Filter
	Decision string `query:"decision" doc:"Only with this decision under the run's policy."`
	After    int32  `query:"after" minimum:"0" doc:"Gives what comes after this address number; 0: from the start."`
	Limit    int    `query:"limit" minimum:"1" maximum:"500" default:"100" doc:"How many at the most."`
}

func (a *API) results(ctx context.Context, in *resultsInput) (*struct{ Body []contract.Result }, error) {
	j, err := a.judgeOfRun(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	c, err := a.suggester(ctx, j.run)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := []contract.Result{}
	filter := store.ResultFilter{Search: strings.TrimSpace(in.Search), Domain: in.Domain, Operator: in.Operator, After: in.After, Limit: in.Limit}
	if byVerdict := in.Decision != "" && j.byVerdict != nil; byVerdict || !in.AnyVerdict() {
		filter.Verdicts = verdictsWhere(j.verdicts, in.Fits)
	}
	if in.Decision != "" && j.byVerdict != nil {
		filter.Verdicts = slices.DeleteFunc(filter.Verdicts, func(id int32) bool { return in.Decision != string(j.ruling(j.byVerdict[id]).Decision) })
	}
	for len(out) < in.Limit {
		found, err := a.store.Results(ctx, j.run, filter)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		decisions, err := a.decisions(ctx, j, found)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		for i, r := range found {
			filter.After = r.Address
			if in.Decision == "" || in.Decision == string(decisions[i]) {
				out = append(out, resultBody(r, j.verdicts[r.Verdict], decisions[i], c))
			}
		}
		if len(found) < filter.Limit {
			break
		}
	}
	return &struct{ Body []contract.Result }{out[:min(len(out), in.Limit)]}, nil
}

// decisions decides on some results.
func (a *API) decisions(ctx context.Context, j *judge, found []store.Result) ([]policy.Decision, error) {
	out, addresses := make([]policy.Decision, len(found)), make([]int32, len(found))
	for i, r := range found {
		addresses[i] = r.Address
		if j.byVerdict != nil {
			out[i] = j.ruling(j.byVerdict[r.Verdict]).Decision
		}
	}
	if j.byVerdict != nil {
		return out, nil
	}
	rows, err := a.store.RowsOf(ctx, j.run, j.list, addresses)
	if err != nil {
		return nil, err
	}
	for i, r := range found {
		row := rows[r.Address]
		out[i] = j.ruling(j.cell(row, row.Cell(r.Address))).Decision
	}
	return out, nil
}

// judgeOfRun gives the judge of a run under its own policy.
func (a *API) judgeOfRun(ctx context.Context, id int64) (*judge, error) {
	run, l, err := a.runAndList(ctx, id)
	if err != nil {
		return nil, err
	}
	return a.judgeOf(ctx, run, l, run.Policy)
}

// suggester gives the domains that may have been meant in a list.
func (a *API) suggester(ctx context.Context, run store.Run) (*catalogue.Catalogue, error) {
	frequent, err := a.store.FrequentDomains(ctx, run.ListID, catalogue.Frequent)
	return catalogue.Default().Beside(frequent), err
}

func resultBody(r store.Result, v finding.Verdict, d policy.Decision, c *catalogue.Catalogue) contract.Result {
	b := verdictBody(v, d)
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

func verdictBody(v finding.Verdict, d policy.Decision) contract.Result {
	info, _ := finding.Lookup(v.Cause)
	traits := []finding.Trait(v.Traits)
	if traits == nil {
		traits = []finding.Trait{}
	}
	return contract.Result{Finding: v.Finding, Cause: v.Cause, Title: info.Title, Traits: traits, Odds: v.Odds, Decision: d}
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
	j, err := a.judgeOfRun(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	r, err := a.store.FullResult(ctx, j.run, in.Address)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	c, err := a.suggester(ctx, j.run)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	decisions, err := a.decisions(ctx, j, []store.Result{r.Result})
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	e := withWords(resultBody(r.Result, j.verdicts[r.Verdict], decisions[0], c))
	e.Line, e.Mended = r.Line, r.Mended
	if r.Problem != nil {
		e.Problem = r.Problem.Reason
	}
	if err := a.addHosts(ctx, j.run, r, &e); err != nil {
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
