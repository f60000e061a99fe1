// Package activity keeps when something was seen of addresses last: as files of events, columns of lists
// and outcomes tell.
package activity

import (
	"cmp"
	"context"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"strings"
	"time"

	"varnet/core/activity"
	"varnet/core/address"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/contract"
	"varnet/internal/intake"
	"varnet/internal/store"
)

// Desk keeps what was seen.
type Desk struct {
	Store   *store.Store
	Grammar address.Grammar
	Now     func() time.Time
}

// Columns are where in a table events stand, from 1; 0: found by itself, or there is none.
type Columns struct{ Address, At, Kind int }

// Wrong is what is wrong with a table and the remedy.
type Wrong struct{ Why string }

func (w *Wrong) Error() string { return w.Why }

// What columns are called, in lower case.
var (
	atNames   = []string{"date", "day", "at", "time", "timestamp", "when", "last active", "last activity", "last seen", "event date", "occurred at"}
	kindNames = []string{"event", "kind", "type", "what", "activity", "action"}
)

// settle finds the columns that are not given.
func (c Columns) settle(r *intake.Reading) (Columns, error) {
	named := func(given int, names []string) int {
		for i, column := range r.Columns {
			for _, n := range names {
				if given == 0 && strings.EqualFold(strings.TrimSpace(column), n) {
					return i + 1
				}
			}
		}
		return given
	}
	if c.Address == 0 {
		c.Address = r.AddressColumn + 1
	}
	if c.At = named(c.At, atNames); c.At == 0 {
		for i, k := range r.Kinds {
			if k.Type == sheet.Date && c.At == 0 {
				c.At = i + 1
			}
		}
	}
	c.Kind = named(c.Kind, kindNames)
	for _, n := range []int{c.Address, c.At, c.Kind} {
		if n < 0 || n > len(r.Columns) {
			return c, &Wrong{fmt.Sprintf("there is no column %d; the table has %s", n, say.Plural(int64(len(r.Columns)), "column", "columns"))}
		}
	}
	switch {
	case c.Address == 0:
		return c, &Wrong{"no column with addresses was found; choose one"}
	case c.At == 0:
		return c, &Wrong{"no column with days was found; choose one"}
	}
	return c, nil
}

// atOnce is how many addresses are kept in one transaction.
const atOnce = 5000

// gathering keeps what was seen, some addresses at a time, and counts it.
type gathering struct {
	*Desk
	ctx       context.Context
	workspace int64
	some      map[string]activity.Seen
	told      contract.ImportedActivity

	// counted are the addresses so far, by their hash, and whether newer activity is known now of each.
	// In a large file an address comes back long after it was kept.
	counted map[uint64]bool
	seed    maphash.Seed
}

// see takes one event in; cells that hold no address or no day are counted.
func (g *gathering) see(cell, at, kind, from string, days sheet.Kind) error {
	g.told.Events++
	a, err := g.Grammar.Parse(cell)
	if err != nil {
		g.told.NoAddress++
		return nil
	}
	day, ok := days.Time(at)
	switch {
	case !ok:
		g.told.NoDay++
		return nil
	case day.After(g.Now().Add(24 * time.Hour)):
		g.told.Future++
		return nil
	}
	seen := activity.Seen{At: day, Kind: kind, From: from}
	g.some[a.Canonical()] = g.some[a.Canonical()].Later(seen)
	if len(g.some) < atOnce {
		return nil
	}
	return g.flush()
}

func (g *gathering) flush() error {
	for canonical := range g.some {
		if hash := maphash.String(g.seed, canonical); !g.counted[hash] {
			g.counted[hash] = false
		}
	}
	later, err := g.Store.RememberActivity(g.ctx, g.workspace, g.some)
	for _, canonical := range later {
		if hash := maphash.String(g.seed, canonical); !g.counted[hash] {
			g.counted[hash], g.told.Later = true, g.told.Later+1
		}
	}
	g.told.Addresses = int64(len(g.counted))
	clear(g.some)
	return err
}

func (d *Desk) gather(ctx context.Context, workspace int64) *gathering {
	return &gathering{Desk: d, ctx: ctx, workspace: workspace, some: map[string]activity.Seen{}, counted: map[uint64]bool{}, seed: maphash.MakeSeed()}
}

// Import keeps the events of a table. Kind is what was seen where no column says so; from is the name of
// the file.
func (d *Desk) Import(ctx context.Context, workspace int64, r *intake.Reading, c Columns, kind, from string) (contract.ImportedActivity, error) {
	c, err := c.settle(r)
	if err != nil {
		return contract.ImportedActivity{}, err
	}
	g, kept := d.gather(ctx, workspace), r.Dialect.Kept()
	days := sheet.KindAt(r.Kinds, c.At-1)
	for rec, err := range r.Records() {
		if err != nil {
			return g.told, err
		}
		what := kind
		if c.Kind > 0 {
			what = strings.ToLower(strings.TrimSpace(kept.Cell(rec.Raw, c.Kind-1)))
		}
		if err := g.see(kept.Cell(rec.Raw, c.Address-1), kept.Cell(rec.Raw, c.At-1), clean(what, "seen"), from, days); err != nil {
			return g.told, err
		}
	}
	err = g.flush()
	g.told.Says = says(g.told)
	return g.told, err
}

// clean makes a word of a file fit to be kept and shown.
func clean(word, otherwise string) string {
	return cmp.Or(strings.TrimSpace(say.Clip(say.Line(word), sheet.MostOf)), otherwise)
}

// ReadList keeps the days that columns of a list are said to hold.
func (d *Desk) ReadList(ctx context.Context, l store.List) error {
	g, kept := d.gather(ctx, l.WorkspaceID), l.Dialect.Kept()
	for _, m := range l.Meanings {
		if m.Holds != sheet.Activity {
			continue
		}
		days := sheet.KindAt(l.Kinds, m.Column)
		err := d.Store.EachRow(ctx, store.Run{}, l, store.OutWith{}, func(r *store.OutRow) error {
			at := kept.Cell(r.Raw, m.Column)
			if strings.TrimSpace(at) == "" {
				return nil
			}
			for i := range r.Cells {
				if r.Cells[i].Address == 0 {
					continue
				}
				if err := g.see(kept.Cell(r.Raw, l.AddressColumns[i]), at, m.Of, l.Name, days); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return g.flush()
}

func says(t contract.ImportedActivity) string {
	if t.Events == 0 {
		return "There is no event in it."
	}
	said := fmt.Sprintf("%s of %s read; newer activity is known now of %s.", say.Plural(t.Events, "event", "events"), say.Addresses(t.Addresses), say.Addresses(t.Later))
	for _, left := range []struct {
		n   int64
		why string
	}{{t.NoAddress, "without an address"}, {t.NoDay, "without a day that can be read (write it as 2026-11-03)"}, {t.Future, "in the future"}} {
		if left.n > 0 {
			said += fmt.Sprintf(" %s %s left out.", say.Number(left.n), left.why+" "+map[bool]string{true: "was", false: "were"}[left.n == 1])
		}
	}
	return said
}

// Look counts the addresses of a list by when something was seen of them last.
func (d *Desk) Look(ctx context.Context, l store.List) (out contract.ListActivity, err error) {
	known, err := d.Store.Activity(ctx, l)
	if err != nil {
		return out, err
	}
	now, steps, kinds := d.Now(), map[activity.Step]int64{}, map[string]int64{}
	seen := int64(0)
	err = d.Store.EachMailbox(ctx, l.ID, func(ordinal int32, _, _ string) error {
		s := known.Of(ordinal)
		steps[s.Step(now)]++
		out.Addresses++
		if !s.At.IsZero() {
			kinds[s.Kind]++
			seen++
		}
		return nil
	})
	out.Steps, out.Kinds = []contract.ActivityStep{}, []contract.ActivityKind{}
	for _, s := range activity.Steps() {
		out.Steps = append(out.Steps, contract.ActivityStep{Step: string(s), Says: s.Says(), Addresses: steps[s]})
	}
	for _, k := range sortedByCount(kinds) {
		out.Kinds = append(out.Kinds, contract.ActivityKind{Kind: k, Addresses: kinds[k]})
	}
	out.Says = fmt.Sprintf("Activity is known for %[2]s of %[1]s; %[3]s active within 90 days.", say.Addresses(out.Addresses), say.Number(seen), say.Plural(steps[activity.Within30]+steps[activity.Within60]+steps[activity.Within90], "was", "were"))
	if seen == 0 {
		out.Says = "No activity of its addresses is known yet. Import a file of events, or say which columns of the list hold days."
	}
	return out, err
}

func sortedByCount(counts map[string]int64) []string {
	return slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b))
	})
}
