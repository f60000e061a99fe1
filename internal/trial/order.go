package trial

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	corebounce "varnet/core/bounce"
	"varnet/core/policy"
	"varnet/core/rule"
	"varnet/core/trial"
	"varnet/internal/outbound"
	"varnet/internal/store"
)

// chosen are the addresses of a run that get a trial letter, and how many get none, by why.
type chosen struct {
	letters   []store.Mailed
	operators map[string]string // by domain
	left      map[trial.LeftOut]int
}

// choose looks through the addresses of a run.
func (p *Post) choose(ctx context.Context, run store.Run) (c chosen, err error) {
	c.left = map[trial.LeftOut]int{}
	verdicts, err := p.Store.Verdicts(ctx)
	if err != nil {
		return c, err
	}
	latest, err := p.Store.Latest(ctx, run.ID)
	if err != nil {
		return c, err
	}
	now, err := latest.Whole(ctx)
	if err != nil {
		return c, err
	}
	overrides, err := p.Store.Overrides(ctx, run)
	if err != nil {
		return c, err
	}
	dropped := map[int32]bool{}
	for _, o := range overrides[run.ID] {
		dropped[o.Address] = o.Decision == policy.Drop
	}
	err = p.Store.EachMailbox(ctx, run.ListID, func(ordinal int32, local, domain string) error {
		said := now.Verdict(ordinal)
		if left := trial.For(verdicts[said], dropped[ordinal]); left != trial.Gets {
			c.left[left]++
			return nil
		}
		c.letters = append(c.letters, store.Mailed{Mailbox: local + "@" + domain, Canonical: address.CanonicalOf(local, domain), Domain: domain, Said: said})
		return nil
	})
	if err != nil {
		return c, err
	}
	if c.operators, err = p.Store.RunOperators(ctx, run.ID); err != nil {
		return c, err
	}
	return c, p.leaveOut(ctx, run.WorkspaceID, &c)
}

// leaveOut takes the addresses out that had their letter, that are known to be struck, or that
// a rule keeps Varnet from contacting.
func (p *Post) leaveOut(ctx context.Context, workspace int64, c *chosen) error {
	canonicals := make([]string, len(c.letters))
	for i, l := range c.letters {
		canonicals[i] = l.Canonical
	}
	sent, err := p.Store.SentTrials(ctx, workspace, canonicals)
	if err != nil {
		return err
	}
	known, err := p.Store.KnownOutcomes(ctx, workspace, canonicals)
	if err != nil {
		return err
	}
	side, err := p.setup(ctx, workspace)
	if err != nil {
		return err
	}
	kept := c.letters[:0]
	for _, l := range c.letters {
		left := struck(known[l.Canonical])
		switch {
		case left != trial.Gets:
		case sent[l.Canonical]:
			left = trial.SentBefore
		case side.Rule(rule.Subject{Address: l.Canonical, Domain: l.Domain, Operator: c.operators[l.Domain]}).Depth == rule.Never:
			left = trial.Ruled
		default:
			kept = append(kept, l)
			continue
		}
		c.left[left]++
	}
	c.letters = kept
	return nil
}

// struck is why an address gets no letter, by what is known of it.
func struck(k store.KnownOutcome) trial.LeftOut {
	switch {
	case k.Outcome == corebounce.Complained || k.Outcome == corebounce.Unsubscribed:
		return trial.Struck
	case k.Outcome == corebounce.Bounced && k.Permanent:
		return trial.BouncedOnce
	}
	return trial.Gets
}

func (p *Post) setup(ctx context.Context, workspace int64) (*outbound.Setup, error) {
	side, err := p.Outbound.Setup(ctx)
	if err != nil {
		return nil, err
	}
	own, err := p.Store.OwnRules(ctx, workspace)
	if err != nil {
		return nil, err
	}
	return side.For(own), nil
}

// rest is the time between two letters to an operator.
func (p *Post) rest(side *outbound.Setup, operator string) time.Duration {
	return max(p.Between, side.Bounds(operator).Rest)
}

// Forecast is what settling the catch-all addresses of a run by letters will take.
type Forecast struct {
	Letters   int
	LeftOut   map[trial.LeftOut]int // addresses that get none, by why
	Operators int
	Takes     time.Duration // until the last letter has left
	Until     time.Time     // the watch goes on
	Daily     int
	// Why is why nothing can be sent as things are; nil: it can.
	Why error
}

// Forecast returns what it will take, and changes nothing.
func (p *Post) Forecast(ctx context.Context, run store.Run) (f Forecast, err error) {
	c, err := p.choose(ctx, run)
	if err != nil {
		return f, err
	}
	side, err := p.setup(ctx, run.WorkspaceID)
	if err != nil {
		return f, err
	}
	byOperator := map[string]int{}
	for _, l := range c.letters {
		byOperator[c.operators[l.Domain]]++
	}
	var loads []trial.Load
	for operator, n := range byOperator {
		loads = append(loads, trial.Load{Letters: n, Rest: p.rest(side, operator)})
	}
	s, _, why := p.ready(ctx, run.WorkspaceID)
	sent, err := p.Store.TrialsSent(ctx, run.WorkspaceID, p.Now().Add(-24*time.Hour))
	f = Forecast{Letters: len(c.letters), LeftOut: c.left, Operators: len(byOperator), Takes: trial.Takes(loads, max(s.Daily, 1), sent), Daily: s.Daily, Why: why}
	f.Until = p.Now().Add(f.Takes + corebounce.Watch)
	return f, err
}

// Check reports why a text cannot be sent to the catch-all addresses of a run.
func (p *Post) Check(ctx context.Context, workspace int64, t store.Trial) error {
	if _, _, err := p.ready(ctx, workspace); err != nil {
		return err
	}
	if err := t.Text().Check(); err != nil {
		return err
	}
	return trial.CheckReason(t.Reason)
}

// Prepare writes down to whom the letters of an order go. They are sent from then on.
func (p *Post) Prepare(ctx context.Context, m store.Mailing) error {
	run, err := p.Store.Run(ctx, m.WorkspaceID, *m.RunID)
	if err != nil {
		return err
	}
	c, err := p.choose(ctx, run)
	if err != nil {
		return err
	}
	s, err := p.Store.TrialSender(ctx, m.WorkspaceID)
	if err != nil {
		return err
	}
	return p.Store.InTx(ctx, func(st *store.Store, _ pgx.Tx) error {
		i := 0
		m.Letters, err = st.AddMailed(ctx, m, func() (*store.Mailed, error) {
			if i == len(c.letters) {
				return nil, nil
			}
			l := &c.letters[i]
			i++
			tag := p.Desk.Tags.Tag(m.ID, i)
			id := messageID(s, tag)
			l.Tag, l.MessageID = &tag, &id
			return l, nil
		})
		if err != nil {
			return err
		}
		if err := st.AddTrialLetters(ctx, m.ID, c.operators); err != nil {
			return err
		}
		m.State = store.MailingSending
		return st.SetMailing(ctx, m, store.MailingPreparing)
	})
}
