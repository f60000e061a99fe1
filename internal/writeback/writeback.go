// Package writeback decides what of a run is written back to where its contacts came from: which
// contact gets which value in which step, and says it in sentences before it is done.
package writeback

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/problem"
	"varnet/internal/connect"
	"varnet/internal/decide"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

// What a field may be set to.
const (
	OfFinding  = "finding"
	OfCause    = "cause"
	OfDecision = "decision"
)

// Bounds of a write-back.
const (
	MostSteps = 10
	mostName  = 200
)

// Check reports what of a write-back cannot be, for a place that has some acts.
func Check(spec pack.WriteBackSpec, takes []connect.Act) error {
	if len(spec.Steps) == 0 || len(spec.Steps) > MostSteps {
		return problem.In("steps", "a write-back has 1 to %d steps", MostSteps)
	}
	for i, s := range spec.Steps {
		if err := checkStep(fmt.Sprintf("steps[%d]", i), s, takes); err != nil {
			return err
		}
	}
	return nil
}

func checkStep(at string, s pack.WriteBackStep, takes []connect.Act) error {
	act := connect.Act(s.Act)
	if !slices.Contains(takes, act) {
		return problem.In(at+".act", "this connection does not take %q; it takes %s", s.Act, list(takes))
	}
	if act == connect.PutFile {
		return checkFile(at, s)
	}
	named := act == connect.SetField || act == connect.Tag || act == connect.Collect
	if named && (strings.TrimSpace(s.Name) == "" || len(s.Name) > mostName || strings.ContainsAny(s.Name, "\r\n\x00")) {
		return problem.In(at+".name", "give the %s a name of at most %d letters", nouns[act], mostName)
	}
	if act == connect.SetField && !slices.Contains([]string{OfFinding, OfCause, OfDecision}, s.Of) {
		return problem.In(at+".of", "a field is set to the finding, the cause or the decision, not %q", s.Of)
	}
	for _, d := range s.Decisions {
		if !slices.Contains(policy.Decisions(), policy.Decision(d)) {
			return problem.In(at+".decisions", "%q is not a decision", d)
		}
	}
	for _, f := range s.Findings {
		if !slices.Contains(finding.Findings(), finding.Finding(f)) {
			return problem.In(at+".findings", "%q is not a finding", f)
		}
	}
	return nil
}

func checkFile(at string, s pack.WriteBackStep) error {
	if s.Name == "" || len(s.Name) > mostName {
		return problem.In(at+".name", "give the file a name such as {name}-{date}")
	}
	if len(s.Decisions) > 1 || len(s.Findings) > 0 {
		return problem.In(at+".decisions", "a file has the rows of one decision, or all")
	}
	return nil
}

func list(acts []connect.Act) string {
	if len(acts) == 0 {
		return "nothing back"
	}
	var out []string
	for _, a := range acts {
		out = append(out, string(a))
	}
	return strings.Join(out, ", ")
}

var nouns = map[connect.Act]string{connect.SetField: "field", connect.Tag: "tag", connect.Collect: "collection"}

// Order is a step as a place is given it.
func Order(s pack.WriteBackStep, collection, target string) connect.Order {
	return connect.Order{Act: connect.Act(s.Act), Name: s.Name, Collection: collection, Refresh: s.Refresh, Target: target}
}

// Each returns what each contact of a run gets in each step, in the order of its list.
func Each(ctx context.Context, s decide.Source, d *decide.Decider, spec pack.WriteBackSpec, do func(store.WriteItem) error) error {
	dialect := d.List.Dialect.Kept()
	number := 0
	needs := d.Needs()
	needs.Times = true
	return s.EachRow(ctx, d.Run, d.List, needs, func(r *store.OutRow) error {
		number++
		c, ok := d.Contact(r)
		if !ok {
			return nil
		}
		var item store.WriteItem
		for step, st := range spec.Steps {
			v, gets := value(st, c)
			if !gets {
				continue
			}
			if item.Key == "" {
				cells := dialect.Cells(r.Raw)
				item.Number, item.Key = number, at(cells, 0)
				for _, column := range d.List.AddressColumns {
					item.Addresses = append(item.Addresses, at(cells, column))
				}
				if item.Key == "" {
					return nil
				}
			}
			item.Step, item.Value = step, v
			if err := do(item); err != nil {
				return err
			}
		}
		return nil
	})
}

func at(cells []string, i int) string {
	if i >= len(cells) {
		return ""
	}
	return cells[i]
}

// Exported is the decision of the rows that a file has.
func Exported(s pack.WriteBackStep) string {
	if len(s.Decisions) == 1 {
		return s.Decisions[0]
	}
	return "all"
}

// value is what a contact gets in a step; gets is false where it is left as it is.
func value(s pack.WriteBackStep, c decide.Contact) (v string, gets bool) {
	if len(s.Decisions) > 0 && !slices.Contains(s.Decisions, string(c.Decision)) || len(s.Findings) > 0 && !slices.Contains(s.Findings, string(c.Verdict.Finding)) {
		return "", false
	}
	switch connect.Act(s.Act) {
	case connect.Collect:
		return connect.Present, !c.Repeats // one contact of each address
	case connect.SetField:
	default:
		return connect.Present, true
	}
	switch s.Of {
	case OfFinding:
		v = string(c.Verdict.Finding)
	case OfCause:
		v = string(c.Verdict.Cause)
	default:
		v = string(c.Decision)
	}
	if own, ok := s.Values[v]; ok {
		v = own
	}
	return v, v != ""
}
