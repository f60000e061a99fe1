package work

import (
	"context"
	"errors"
	"sync"
	"time"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/finding"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/rule"
	"varnet/internal/bounce"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

// Checked is what one address, checked now, came to.
type Checked struct {
	Typed   string
	Address address.Address
	Problem *address.Error // why it is not an address
	Verdict finding.Verdict
	Factors []finding.Factor // of the odds
	Domain  *resolve.Domain
	// Suggestion is the domain that may have been meant.
	Suggestion    string
	Asked         []probe.Asked
	Conversations []probe.Conversation
	Acceptance    *probe.Acceptance
	At            time.Time
}

// catalogueLife is for how long a run's catalogue is remembered: it is read for
// every parcel.
const catalogueLife = 10 * time.Second

// catalogues remembers the catalogue of each run.
type catalogues struct {
	mu    sync.Mutex
	byRun map[int64]rememberedCatalogue
}

type rememberedCatalogue struct {
	*catalogue.Catalogue
	workspace int64
	at        time.Time
}

// ofRun returns a run's workspace, and its catalogue as it counts for the run's list.
func (e *Engine) ofRun(ctx context.Context, id int64) (workspace int64, c *catalogue.Catalogue, err error) {
	e.catalogues.mu.Lock()
	known := e.catalogues.byRun[id]
	e.catalogues.mu.Unlock()
	if time.Since(known.at) < catalogueLife {
		return known.workspace, known.Catalogue, nil
	}
	run, err := e.Store.RunByID(ctx, id)
	if err != nil {
		return 0, nil, err
	}
	if c, err = e.Catalogue(ctx, run.WorkspaceID); err != nil {
		return 0, nil, err
	}
	frequent, err := e.Store.FrequentDomains(ctx, run.ListID, catalogue.Frequent)
	if err != nil {
		return 0, nil, err
	}
	c = c.Beside(frequent)
	e.catalogues.mu.Lock()
	defer e.catalogues.mu.Unlock()
	for other, old := range e.catalogues.byRun {
		if time.Since(old.at) > catalogueLife {
			delete(e.catalogues.byRun, other)
		}
	}
	if e.catalogues.byRun == nil {
		e.catalogues.byRun = map[int64]rememberedCatalogue{}
	}
	e.catalogues.byRun[id] = rememberedCatalogue{c, run.WorkspaceID, time.Now()}
	return run.WorkspaceID, c, nil
}

// catalogue is the shipped one with the workspace's own entries over it.
func (e *Engine) Catalogue(ctx context.Context, workspace int64) (*catalogue.Catalogue, error) {
	own, err := e.Store.AllCatalogueEntries(ctx, workspace)
	return catalogue.With(own), err
}

// Passed is told each stage that an address has passed, with what was seen so far. Where it reports
// false nothing more is asked, and the address has no finding.
type Passed func(finding.Stage, Checked) (goOn bool)

func (p Passed) tell(s finding.Stage, c Checked) (goOn bool) { return p == nil || p(s, c) }

// Check verifies one address now, without a list. It asks once; what a host
// puts off is undecided. passed may be nil.
func (e *Engine) Check(ctx context.Context, workspace int64, typed string, passed Passed) Checked {
	c := e.checkNow(ctx, workspace, typed, passed)
	operator := ""
	if c.Domain != nil {
		operator = c.Domain.Operator()
	}
	var err error
	if c.Verdict, c.Factors, err = e.Odds.Single(ctx, workspace, c.Address.Mailbox(), operator, c.Verdict); err != nil {
		e.Log.Warn("what was learnt of odds is not known now", "err", err)
	}
	return c
}

func (e *Engine) checkNow(ctx context.Context, workspace int64, typed string, passed Passed) Checked {
	c := Checked{Typed: typed, At: time.Now()}
	a, err := e.Grammar.Parse(typed)
	if errors.As(err, &c.Problem) {
		c.Verdict = finding.ConcludeFrom(c.Problem.Cause, nil)
		return c
	}
	was, err := e.Store.Recall(ctx, workspace, a)
	erased := false
	if err == nil {
		erased, err = e.Rights.Erased(ctx, workspace, was.ErasedKey, a)
	}
	if erased || err != nil {
		if err != nil {
			e.Log.Error("what is known of an address, and whether it was erased, cannot be read now, so that it is not asked about", "err", err)
		}
		c.Verdict = finding.ConcludeFrom(finding.RuleErased, nil)
		return c
	}
	known := catalogue.With(was.Entries)
	c.Address, c.Suggestion = a, known.Suggest(a.Domain)
	if !passed.tell(finding.StageSyntax, c) {
		return c
	}
	traits := e.domainOf(ctx, &c, known)
	if v, bounced := was.Outcome.Verdict(finding.Verdict{Traits: traits}, c.At); bounced {
		c.Verdict, c.Asked = v, []probe.Asked{bounce.Evidence(was.Outcome)}
		return c
	}
	if cause, hopeless := c.Domain.Outcome.Cause(); hopeless {
		c.Verdict = finding.ConcludeFrom(cause, traits)
		return c
	}
	if !passed.tell(finding.StageDomain, c) {
		return c
	}
	e.askNow(ctx, workspace, &c, traits, was)
	return c
}

// domainOf asks DNS about the domain of an address, and returns its traits.
func (e *Engine) domainOf(ctx context.Context, c *Checked, known *catalogue.Catalogue) finding.Traits {
	d := e.Resolver.Lookup(ctx, c.Address.Domain)
	c.Domain = &d
	traits := known.Traits(c.Address).With(known.ExchangerTraits(d.Hosts())...)
	if d.Outcome == resolve.ByMX {
		traits = known.Served(c.Address.Domain, d.Hosts(), traits)
	}
	if !traits.Has(finding.TraitTypo) {
		c.Suggestion = ""
	}
	return traits
}

// askNow asks a mail host about an address, as far as rules allow.
func (e *Engine) askNow(ctx context.Context, workspace int64, c *Checked, traits finding.Traits, was store.Recalled) {
	a, d := c.Address, *c.Domain
	way, cause, err := e.wayFor(ctx, was.Rules, a, d)
	if err != nil {
		e.Log.Warn("outbound is not known now", "err", err)
	}
	if cause != "" {
		c.Verdict = finding.ConcludeFrom(cause, traits)
		return
	}
	if way.elsewhere != "" && e.checkElsewhere(ctx, way.elsewhere, workspace, c) {
		return
	}
	domain := probe.Domain{Name: a.Domain, Operator: d.Operator(), Exchangers: d.Exchangers, Way: way.Way, Lanes: max(1, way.lanes),
		Questions: []probe.Question{{Address: a, Traits: traits, Absent: was.Absent}}}
	if way.Way != nil {
		domain.Acceptances = byRoute(was.Acceptances, way.Way.Route)
	}
	ctx, cancel := context.WithTimeout(ctx, deadline)
	defer cancel()
	out := e.Prober.Probe(ctx, probe.Parcel{Domains: []probe.Domain{domain}, Urgent: true})
	for _, r := range append(append(out.Results, out.Postponed...), out.Unasked...) {
		c.Verdict, c.Asked = r.Verdict, r.Asked
	}
	c.Conversations = out.Conversations
	if n := len(c.Asked); n > 0 {
		record := pack.ParcelRecord{Conversations: out.Conversations, Acceptances: out.Acceptances}
		c.Acceptance = record.Acceptance(a.Domain, c.Asked[n-1].Conversation)
	}
	if v, changed := was.Outcome.Verdict(c.Verdict, c.At); changed {
		c.Verdict, c.Asked = v, append(c.Asked, bounce.Evidence(was.Outcome))
	}
	if err := e.Store.SaveAcceptancesSoon(ctx, newAcceptances([]probe.Domain{domain}, out.Acceptances)); err != nil {
		e.Log.Warn("what was learnt of a domain was not kept", "domain", a.Domain, "err", err)
	}
}

// checkedBy is how an address is asked about now, and how many sessions its operator may see at a
// time, as runs keep them.
type checkedBy struct {
	*probe.Way
	lanes int
	// elsewhere is the location whose workers ask, where no way leads out here.
	elsewhere string
}

// wayFor returns how an address is asked about now by its workspace's own rules, or the cause for which a rule
// says not to. The wait of a rest is not kept: somebody looks on.
func (e *Engine) wayFor(ctx context.Context, own []rule.Rule, a address.Address, d resolve.Domain) (by checkedBy, cause finding.Cause, err error) {
	side, err := e.Outbound.Setup(ctx)
	if err != nil {
		return by, "", err
	}
	side = side.For(own)
	op, err := e.Outbound.Operator(ctx, d.Operator())
	if err != nil {
		return by, "", err
	}
	subject := rule.Subject{Address: a.Mailbox(), Domain: a.Domain, Operator: op.Name}
	switch side.Rule(subject).Depth {
	case rule.Never:
		return by, finding.RuleSkipped, nil
	case "":
		lanes := side.Lanes(op.Name, map[string]store.Operator{op.Name: op})
		st, here := side.AskingHere(op, subject, time.Now())
		if !here {
			return checkedBy{elsewhere: side.Asking(op, subject, time.Now()).Location}, "", nil
		}
		return checkedBy{Way: &st.Way, lanes: lanes.N}, "", nil
	}
	return by, finding.RuleDepth, nil
}
