package routine

import (
	"fmt"
	"slices"
	"strings"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

// Weigh fills in what became of the addresses of the time before: who is new and gone, whose
// finding changed, and who would be dropped that was kept.
func Weigh(r *pack.RoutineRecord, m store.Moved, verdicts map[int32]finding.Verdict, p policy.Policy) {
	r.Added, r.Gone, r.NewlyDropped = m.Now-m.Both, m.Before-m.Both, 0
	decided := func(verdict int32) policy.Decision { return p.Decide(policy.Row{Verdict: verdicts[verdict]}).Decision }
	changes := map[[2]string]int64{}
	for _, pair := range m.Pairs {
		from, to := verdicts[pair.From].Finding, verdicts[pair.To].Finding
		if from != to {
			changes[[2]string{string(from), string(to)}] += pair.Addresses
		}
		if decided(pair.From) == policy.Keep && decided(pair.To) == policy.Drop {
			r.NewlyDropped += pair.Addresses
		}
	}
	r.Changes = nil
	for c, n := range changes {
		r.Changes = append(r.Changes, pack.RoutineChange{From: c[0], To: c[1], Addresses: n})
	}
	slices.SortFunc(r.Changes, func(a, b pack.RoutineChange) int {
		if a.Addresses != b.Addresses {
			return int(b.Addresses - a.Addresses)
		}
		return strings.Compare(a.From+a.To, b.From+b.To)
	})
}

// TooMany says why a person has to decide whether a time goes on; "" where none has to. kept is
// how many addresses were kept the time before.
func TooMany(s pack.RoutineSpec, r pack.RoutineRecord) string {
	if s.MostDropped > 0 && r.KeptBefore > 0 && r.NewlyDropped*100 > int64(s.MostDropped)*r.KeptBefore {
		return fmt.Sprintf("%s of the %s rows kept the time before would be dropped now, which is more than the %d %% that you set. Look at the run, and decide whether its result counts.",
			say.Number(r.NewlyDropped), say.Number(r.KeptBefore), s.MostDropped)
	}
	return ""
}

// TooMuch says why a person has to decide before anybody is asked.
func TooMuch(s pack.RoutineSpec, ask int64) string {
	if s.MostChecks > 0 && ask > s.MostChecks {
		return fmt.Sprintf("It would ask about %s, more than the %s a time that you set. Decide whether it goes on.", say.Addresses(ask), say.Number(s.MostChecks))
	}
	return ""
}

// Sentence says what a time came to.
func Sentence(r pack.RoutineRecord, first bool) string {
	var out []string
	if r.Made != "" {
		out = append(out, r.Made)
	}
	switch {
	case r.Unchanged:
		out = append(out, "The source had not changed.")
	case first:
		out = append(out, fmt.Sprintf("%s with %s came.", say.Rows(r.Rows), say.Addresses(r.Addresses)))
	default:
		out = append(out, fmt.Sprintf("%s with %s came, %s new and %s gone.", say.Rows(r.Rows), say.Addresses(r.Addresses), say.Number(r.Added), say.Number(r.Gone)))
	}
	out = append(out, fmt.Sprintf("%s asked about, and %s reused.", were(r.Asked, "address", "addresses"), were(r.Reused, "result", "results")))
	kept := fmt.Sprintf("%s of %s kept", say.Number(r.Kept), say.Rows(r.Rows))
	if !first {
		kept += fmt.Sprintf(" (%s the time before)", say.Number(r.KeptBefore))
	}
	out = append(out, kept+".")
	if r.NewlyDropped > 0 {
		out = append(out, say.Addresses(r.NewlyDropped)+" kept the time before would be dropped now.")
	}
	if len(r.Changes) > 0 {
		var parts []string
		for _, c := range r.Changes[:min(len(r.Changes), 4)] {
			parts = append(parts, fmt.Sprintf("%s from %s to %s", say.Number(c.Addresses), c.From, c.To))
		}
		out = append(out, "Changed: "+say.And(parts...)+".")
	}
	switch {
	case r.WriteBackID > 0 && r.Written != "":
		out = append(out, "Written back: "+r.Written)
	case r.Written != "":
		out = append(out, "Written to "+r.Written+".")
	}
	return strings.Join(out, " ")
}

// DrySentence says what a time would do.
func DrySentence(r pack.RoutineRecord, s pack.RoutineSpec) string {
	out := fmt.Sprintf("A dry run: %s with %s would come, %s new and %s gone. %s would be asked about, and %s reused. Nobody was asked, and nothing written.",
		say.Rows(r.Rows), say.Addresses(r.Addresses), say.Number(r.Added), say.Number(r.Gone), say.Addresses(r.Asked), say.Plural(r.Reused, "result", "results"))
	if why := TooMuch(s, r.Asked); why != "" {
		out += " " + why
	}
	return out
}

// were counts things in the past.
func were(n int64, one, many string) string { return say.Plural(n, one+" was", many+" were") }

// Worth reports whether a routine's people want to be told of a time that came to its end.
func Worth(s pack.RoutineSpec, r pack.RoutineRecord, first bool) bool {
	switch s.Tell {
	case "always":
		return true
	case "changes":
		return first || r.Added+r.Gone+int64(len(r.Changes)) > 0
	}
	return false
}
