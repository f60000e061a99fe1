package decide

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"varnet/core/policy"
	"varnet/core/workshop"
	"varnet/internal/store"
)

// terms are the saved terms that a policy names, by their name in lower case and how they must
// stand in a cell.
type terms struct {
	ready map[[2]string]*workshop.Terms
	// state names their content: when each was changed last.
	state string
}

// readTerms reads the saved terms that a policy names. Those that there are not fit nothing.
func readTerms(ctx context.Context, s Source, workspace int64, p policy.Policy) (t terms, err error) {
	var names []string
	for _, r := range p.Rules {
		names = append(names, r.TermLists...)
	}
	if len(names) == 0 {
		return t, nil
	}
	saved, err := s.TermsNamed(ctx, workspace, names)
	if err != nil {
		return t, err
	}
	t.ready = map[[2]string]*workshop.Terms{}
	for _, list := range saved {
		name := strings.ToLower(list.Name)
		t.state += fmt.Sprintf("%s %s;", name, list.ChangedAt.Format(time.RFC3339Nano))
		for _, r := range p.Rules {
			if !slices.ContainsFunc(r.TermLists, func(n string) bool { return strings.EqualFold(n, name) }) {
				continue
			}
			if t.ready[[2]string{name, r.How}], err = workshop.NewTerms(how(r.How), list.Terms); err != nil {
				return t, err
			}
		}
	}
	return t, nil
}

// how is how a term must stand in a cell: as the whole cell unless said.
func how(text string) workshop.How {
	if text == "" {
		return workshop.AsCell
	}
	return workshop.How(text)
}

// hasTerm returns what looks for saved terms in the cells of a row.
func (d *Decider) hasTerm(r *store.OutRow) func(list, how, column string) bool {
	if d.terms.ready == nil {
		return nil
	}
	return func(list, how, column string) bool {
		t := d.terms.ready[[2]string{strings.ToLower(list), how}]
		if t == nil {
			return false
		}
		if column != "" {
			i := slices.Index(d.List.Columns, column)
			return i >= 0 && t.In(d.List.Dialect.Kept().Cell(r.Raw, i))
		}
		return slices.ContainsFunc(d.List.Dialect.Kept().Cells(r.Raw), t.In)
	}
}
