package odds

import (
	"context"
	"strings"

	"varnet/core/address"
	"varnet/core/finding"
	"varnet/core/naming"
	"varnet/core/odds"
	"varnet/core/sheet"
	"varnet/internal/store"
)

// people are the addresses of a list at catch-all domains, with what each and its row show.
type people struct {
	verdicts  map[int32]finding.Verdict
	addresses []person
	domains   []domain
}

type person struct {
	ordinal, verdict, domain int32
	odds.Facts
}

type domain struct {
	name, operator string
	habits         *odds.Neighbours
}

// habits are how the addresses of each domain are made.
func (p *people) habits() map[string]*odds.Neighbours {
	out := make(map[string]*odds.Neighbours, len(p.domains))
	for _, d := range p.domains {
		out[d.name] = d.habits
	}
	return out
}

// atCatchAll reports whether an address is at a catch-all domain, as far as its result tells. Those
// that bounced are counted as long as their list holds them.
func atCatchAll(v finding.Verdict) bool {
	return v.Finding == finding.CatchAll || v.Cause == finding.MailboxSettled || v.Cause == finding.MailboxBounced
}

// read reads the people of a run's list.
func (o *Odds) read(ctx context.Context, run store.Run, l store.List) (*people, error) {
	verdicts, err := o.Store.Verdicts(ctx)
	if err != nil {
		return nil, err
	}
	p, r, places := &people{verdicts: verdicts}, newReader(l), map[string]int32{}
	err = o.Store.EachRow(ctx, run, l, store.OutWith{Domains: true}, func(row *store.OutRow) error {
		for i := range row.Cells {
			c := &row.Cells[i]
			if c.Address != c.Ordinal || c.Verdict == 0 || !atCatchAll(verdicts[c.Verdict]) {
				continue
			}
			facts, ok := r.facts(row, c, verdicts[c.Verdict])
			if !ok {
				continue
			}
			at, there := places[c.Domain]
			if !there {
				at = int32(len(p.domains))
				places[c.Domain] = at
				p.domains = append(p.domains, domain{c.Domain, c.Operator, &odds.Neighbours{}})
			}
			p.domains[at].habits.Add(facts, 1)
			p.addresses = append(p.addresses, person{c.Ordinal, c.Verdict, at, facts})
		}
		return nil
	})
	return p, err
}

// reader reads what rows of a list show of their addresses.
type reader struct {
	list    store.List
	dialect sheet.Dialect
	column  map[sheet.Holds]int // from 1
}

func newReader(l store.List) *reader {
	r := &reader{l, l.Dialect.Kept(), map[sheet.Holds]int{}}
	for _, m := range l.Means() {
		r.column[m.Holds] = m.Column + 1
	}
	return r
}

func (r *reader) cell(row *store.OutRow, h sheet.Holds) string {
	if c := r.column[h]; c > 0 {
		return r.dialect.Cell(row.Raw, c-1)
	}
	return ""
}

// name is the name in a row.
func (r *reader) name(row *store.OutRow) naming.Name {
	if n := (naming.Name{First: r.cell(row, sheet.FirstName), Last: r.cell(row, sheet.LastName)}); n.First != "" && n.Last != "" {
		return n
	}
	return naming.Parse(r.cell(row, sheet.WholeName))
}

// facts are those of an address; ok is false where its cell holds none that can be read.
func (r *reader) facts(row *store.OutRow, c *store.OutCell, v finding.Verdict) (f odds.Facts, ok bool) {
	slot := int(c.Ordinal - row.Cells[0].Ordinal)
	a, err := address.Parse(r.dialect.Cell(row.Raw, r.list.AddressColumns[slot]))
	if err != nil {
		return f, false
	}
	return odds.FactsOf(localOf(a.Mailbox()), r.name(row), v.Traits), true
}

// localOf is the local part of a mailbox, without what stands behind a plus sign.
func localOf(mailbox string) string {
	local, _, _ := strings.Cut(mailbox[:strings.LastIndexByte(mailbox, '@')], "+")
	return local
}
