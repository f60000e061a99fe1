package writeback

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"varnet/core/say"
	"varnet/internal/connect"
	"varnet/internal/decide"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

// Plan is what a write-back would do, counted.
type Plan struct {
	Steps []StepPlan
}

// StepPlan is what a step would do.
type StepPlan struct {
	Contacts int64
	Values   map[string]int64 // by what a field is set to
	First    []store.WriteItem
}

// mostValues is how many different values are counted one by one.
const mostValues = 200

// Count counts what a write-back would do, with its first items.
func Count(ctx context.Context, s decide.Source, d *decide.Decider, spec pack.WriteBackSpec, first int) (Plan, error) {
	p := Plan{Steps: make([]StepPlan, len(spec.Steps))}
	for i := range p.Steps {
		p.Steps[i].Values = map[string]int64{}
	}
	err := Each(ctx, s, d, spec, func(i store.WriteItem) error {
		st := &p.Steps[i.Step]
		st.Contacts++
		if _, known := st.Values[i.Value]; known || len(st.Values) < mostValues {
			st.Values[i.Value]++
		}
		if len(st.First) < first {
			st.First = append(st.First, i)
		}
		return nil
	})
	return p, err
}

// Says says what a step will do. kind is what the place calls a collection, from what the one is
// called that the contacts came from.
func Says(s pack.WriteBackStep, p StepPlan, kind, from string) string {
	n := say.Plural(p.Contacts, "contact", "contacts")
	switch connect.Act(s.Act) {
	case connect.SetField:
		if p.Contacts == 0 {
			return fmt.Sprintf("No contact will get anything in the field “%s”.", s.Name)
		}
		return fmt.Sprintf("%s in the field “%s”.", say.And(values(p)...), s.Name)
	case connect.Tag:
		return fmt.Sprintf("%s will get the tag “%s”.", n, s.Name)
	case connect.Suppress:
		return fmt.Sprintf("%s will go on the suppression list.", n)
	case connect.Disable:
		return fmt.Sprintf("Delivery to %s will stop.", n)
	case connect.PutFile:
		return fmt.Sprintf("%s will be written to the file “%s”.", say.Rows(p.Contacts), s.Name)
	case connect.Remove:
		return fmt.Sprintf("%s will be taken out of “%s”.", n, from)
	}
	if s.Refresh {
		return fmt.Sprintf("%s will make up the %s “%s”: those that are missing come in, others go.", n, kind, s.Name)
	}
	return fmt.Sprintf("%s will form the new %s “%s”.", n, kind, s.Name)
}

// values are what a field is set to, the most frequent first.
func values(p StepPlan) (out []string) {
	names := make([]string, 0, len(p.Values))
	for v := range p.Values {
		names = append(names, v)
	}
	slices.SortFunc(names, func(a, b string) int {
		if p.Values[a] != p.Values[b] {
			return int(p.Values[b] - p.Values[a])
		}
		return strings.Compare(a, b)
	})
	for i, v := range names {
		if i == 0 {
			out = append(out, fmt.Sprintf("%s will get “%s”", say.Plural(p.Values[v], "contact", "contacts"), v))
			continue
		}
		out = append(out, fmt.Sprintf("%s “%s”", say.Number(p.Values[v]), v))
	}
	return out
}

// Outcome says what became of a write-back, of its counts.
func Outcome(counts []store.ItemCount, undone bool) string {
	by := map[store.ItemState]int64{}
	total := int64(0)
	for _, c := range counts {
		by[c.State] += c.Items
		total += c.Items
	}
	changes := func(n int64) string { return say.Plural(n, "change", "changes") }
	var out []string
	if undone {
		out = append(out, fmt.Sprintf("%s of %s undone.", say.Number(by[store.ItemUndone]), changes(by[store.ItemUndone]+by[store.ItemLeft]+by[store.ItemDone])))
	} else {
		out = append(out, fmt.Sprintf("%s of %s made.", say.Number(by[store.ItemDone]), changes(total)))
	}
	for _, s := range []struct {
		state store.ItemState
		says  string
	}{{store.ItemSkipped, "%s skipped, since the contact had changed or gone"}, {store.ItemFailed, "%s not taken by the place"}, {store.ItemLeft, "%s could not be undone"}} {
		if n := by[s.state]; n > 0 {
			out = append(out, fmt.Sprintf(s.says+".", say.Number(n)))
		}
	}
	return strings.Join(out, " ")
}

// Summary says in a few words what steps do, whoever they are for.
func Summary(steps []pack.WriteBackStep) string {
	var out []string
	for _, s := range steps {
		who := "everybody"
		if chosen := append(slices.Clone(s.Decisions), s.Findings...); len(chosen) > 0 {
			who = "those who are " + say.Or(chosen...)
			if len(s.Findings) == 0 {
				who = "those to " + say.Or(s.Decisions...)
			}
		}
		out = append(out, map[connect.Act]string{connect.SetField: fmt.Sprintf("the %s in the field “%s” for %s", s.Of, s.Name, who), connect.Tag: fmt.Sprintf("the tag “%s” for %s", s.Name, who),
			connect.Suppress: who + " onto the suppression list", connect.Disable: "no delivery to " + who, connect.Remove: who + " out of the collection",
			connect.Collect: fmt.Sprintf("%s into “%s”", who, s.Name), connect.PutFile: fmt.Sprintf("the file “%s”", s.Name)}[connect.Act(s.Act)])
	}
	return say.And(out...)
}
