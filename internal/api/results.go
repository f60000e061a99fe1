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
	huma.Register(h, operation("filter", http.MethodGet, "/filter", "What a filter chooses, in words"), sayFilter)
	huma.Register(h, operation("words", http.MethodGet, "/words", "All causes and traits with their words"),
		func(context.Context, *struct{}) (*struct{ Body contract.Words }, error) {
			return &struct{ Body contract.Words }{contract.Words{Causes: finding.Causes(), Traits: finding.TraitInfos()}}, nil
		})
}

// DecidedFilter chooses results by what was found and by what is done with them.
type DecidedFilter struct {
	contract.Filter
	Decision string `query:"decision" doc:"Only with this decision, by the run's policy or by hand."`
	Hand     bool   `query:"hand" doc:"Only what was decided by hand."`
}

// page is the filter as far as the store looks at it.
func (f DecidedFilter) page(j *judge, after int32, limit int) store.ResultFilter {
	page := store.ResultFilter{Search: strings.TrimSpace(f.Search), Domain: f.Domain, Operator: f.Operator, After: after, Limit: limit}
	if !f.AnyVerdict() {
		page.Verdicts = verdictsWhere(j.verdicts, f.Fits)
	}
	return page
}

func sayFilter(_ context.Context, in *struct{ DecidedFilter }) (*struct{ Body contract.FilterSaid }, error) {
	words := in.Says()
	for _, more := range []struct {
		is   bool
		says string
	}{{in.Decision != "", "with the decision " + in.Decision}, {in.Hand, "decided by hand"}} {
		if more.is && words != "" {
			words += ", "
		}
		if more.is {
			words += more.says
		}
	}
	if words == "" {
		return &struct{ Body contract.FilterSaid }{contract.FilterSaid{Sentence: "All addresses of the list that are concluded."}}, nil
	}
	return &struct{ Body contract.FilterSaid }{contract.FilterSaid{Sentence: "The addresses " + words + "."}}, nil
}

type resultsInput struct {
	ByID
	DecidedFilter
	After int32 `query:"after" minimum:"0" doc:"Gives what comes after this address number; 0: from the start."`
	Limit int   `query:"limit" minimum:"1" maximum:"500" default:"100" doc:"How many at the most."`
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
	found, err := a.decidedResults(ctx, j, in.page(j, in.After, in.Limit), in.Decision, in.Hand)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := make([]contract.Result, len(found))
	for i, r := range found {
		out[i] = resultBody(r.Result, j, r.decision, c)
	}
	return &struct{ Body []contract.Result }{out}, nil
}

// decidedResult is a result and what is done with it.
type decidedResult struct {
	store.Result
	decision policy.Decision
}

// decidedResults gives a page of results with a decision, "" for any: those
// decided by hand, which are few, and unless only they are wanted the others.
func (a *API) decidedResults(ctx context.Context, j *judge, f store.ResultFilter, want string, handOnly bool) (out []decidedResult, err error) {
	if handOnly || want != "" && len(j.hand) > 0 {
		var addresses []int32
		for _, h := range j.hand {
			if want == "" || want == string(h.Decision) {
				addresses = append(addresses, h.Address)
			}
		}
		found, err := a.store.ResultsAmong(ctx, j.run, f, addresses)
		if err != nil {
			return nil, err
		}
		for _, r := range found {
			out = append(out, decidedResult{r, j.hand[r.Address].Decision})
		}
	}
	if handOnly {
		return out, nil
	}
	others, err := a.resultsByPolicy(ctx, j, f, want)
	out = append(out, others...)
	slices.SortFunc(out, func(a, b decidedResult) int { return int(a.Address - b.Address) })
	return out[:min(len(out), f.Limit)], err
}

// resultsByPolicy gives a page of results with a decision, without those decided
// by hand; of any decision, with them.
func (a *API) resultsByPolicy(ctx context.Context, j *judge, f store.ResultFilter, want string) (out []decidedResult, err error) {
	if want != "" && j.byVerdict != nil {
		if f.Verdicts == nil {
			f.Verdicts = verdictsWhere(j.verdicts, func(finding.Verdict) bool { return true })
		}
		f.Verdicts = slices.DeleteFunc(f.Verdicts, func(id int32) bool { return want != string(j.ruling(j.byVerdict[id]).Decision) })
	}
	for len(out) < f.Limit {
		found, err := a.store.Results(ctx, j.run, f)
		if err != nil {
			return nil, err
		}
		decisions, err := a.decisions(ctx, j, found)
		if err != nil {
			return nil, err
		}
		for i, r := range found {
			f.After = r.Address
			if want == "" || want == string(decisions[i]) && j.hand[r.Address].Decision == "" {
				out = append(out, decidedResult{r, decisions[i]})
			}
		}
		if len(found) < f.Limit {
			break
		}
	}
	return out, nil
}

// decisions decides on some results.
func (a *API) decisions(ctx context.Context, j *judge, found []store.Result) ([]policy.Decision, error) {
	out, addresses := make([]policy.Decision, len(found)), make([]int32, len(found))
	for i, r := range found {
		addresses[i] = r.Address
		if j.byVerdict != nil {
			out[i] = j.ruling(j.byVerdict[r.Verdict]).Decision
		}
		if h, ok := j.hand[r.Address]; ok {
			out[i] = h.Decision
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

func resultBody(r store.Result, j *judge, d policy.Decision, c *catalogue.Catalogue) contract.Result {
	b := verdictBody(j.verdicts[r.Verdict], d)
	b.Address, b.Typed, b.At = r.Address, r.Typed, r.At
	_, b.ByHand = j.hand[r.Address]
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
	e := withWords(resultBody(r.Result, j, decisions[0], c))
	e.Line, e.Mended = r.Line, r.Mended
	if r.Problem != nil {
		e.Problem = r.Problem.Reason
	}
	if err := a.addHosts(ctx, j.run, r, &e); err != nil {
		return nil, a.failed(ctx, err)
	}
	if err := a.addHistory(ctx, j, &e); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Evidence }{e}, nil
}

// addHistory adds what other runs found of the address.
func (a *API) addHistory(ctx context.Context, j *judge, e *contract.Evidence) error {
	if e.Mailbox == "" {
		return nil
	}
	found, err := a.store.Pasts(ctx, j.run.WorkspaceID, j.run, e.Mailbox)
	for _, p := range found {
		v := j.verdicts[p.Verdict]
		info, _ := finding.Lookup(v.Cause)
		e.History = append(e.History, contract.Past{RunID: p.RunID, ListID: p.ListID, ListName: p.ListName, At: p.At, Finding: v.Finding, Title: info.Title})
	}
	return err
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
			e.Acceptance, e.AcceptanceSays = known, known.Accepts.Sentence() // the last round's stands
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
