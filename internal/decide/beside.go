package decide

import (
	"context"
	"slices"
	"strings"
	"time"

	"varnet/core/finding"
	"varnet/core/opinion"
	"varnet/core/policy"
	"varnet/core/sheet"
	"varnet/internal/store"
)

// beside is what a policy looks at beside rows and results: when something was seen of an address, and
// what other checks found, as far as the policy does.
type beside struct {
	activity *store.Activity
	opinions []Opinion
	state    string
}

// Opinion is a column with what another check found.
type Opinion struct {
	Name   string
	Column int // from 0
	Means  opinion.Means
}

// Opinions returns the other checks whose results stand in columns of a list.
func Opinions(l store.List, means map[string]opinion.Means) (out []Opinion) {
	for _, m := range l.Means() {
		if m.Holds == sheet.Opinion {
			out = append(out, Opinion{m.Of, m.Column, means[strings.ToLower(m.Of)]})
		}
	}
	return out
}

// Of returns what the other check found of a row.
func (o Opinion) Of(l store.List, r *store.OutRow) finding.Finding {
	f, _ := o.Means.Of(l.Dialect.Kept().Cell(r.Raw, o.Column))
	return f
}

func readBeside(ctx context.Context, s Source, l store.List, p policy.Policy) (b beside, err error) {
	if slices.ContainsFunc(p.Rules, func(r policy.Rule) bool { return r.ActiveWithin+r.InactiveFor > 0 }) {
		if b.activity, err = s.Activity(ctx, l); err != nil {
			return b, err
		}
		b.state = Fingerprint(b.activity.Version)
	}
	if slices.ContainsFunc(p.Rules, func(r policy.Rule) bool { return len(r.Opinions) > 0 }) {
		means, err := s.OpinionMeans(ctx, l.WorkspaceID)
		if err != nil {
			return b, err
		}
		b.opinions = Opinions(l, means)
		b.state = Fingerprint(b.state, b.opinions)
	}
	return b, nil
}

// inactive is how long ago something was seen of an address; below 0: never.
func (b *beside) inactive(address int32, now time.Time) time.Duration {
	seen := b.activity.Of(address)
	if seen.At.IsZero() {
		return -1
	}
	return max(0, now.Sub(seen.At))
}

// opinionOf returns what tells the findings of other checks of a row.
func (b *beside) opinionOf(l store.List, r *store.OutRow) func(string) finding.Finding {
	if b.opinions == nil {
		return nil
	}
	return func(name string) finding.Finding {
		for _, o := range b.opinions {
			if strings.EqualFold(o.Name, name) {
				return o.Of(l, r)
			}
		}
		return ""
	}
}
