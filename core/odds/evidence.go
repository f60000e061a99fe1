package odds

import (
	"varnet/core/finding"
	"varnet/core/naming"
)

// Gather returns what an address tells for or against its mailbox: whether it fits the naming
// habit of its domain, by the name in its row where there is one, and its traits.
func Gather(h naming.Habits, domain, local string, name naming.Name, traits finding.Traits) (f Features, follow, of int) {
	f = Features{}
	if traits.Has(finding.TraitRandomLooking) {
		f[Random] = 1
	}
	if traits.Has(finding.TraitRole) { // it stands for a task, which no name is compared with
		f[Role] = 1
		return f, 0, 0
	}
	habit, follow, of := h.Habit(domain)
	named, made := name.First != "" && name.Last != "", naming.Pattern("")
	if named {
		if made = naming.Of(name, local); made == "" { // first and last name may stand the other way round
			made = naming.Of(naming.Name{First: name.Last, Last: name.First}, local)
		}
	}
	share := 0.0
	if of > 0 {
		share = float64(follow) / float64(of)
	}
	switch {
	case named && made == "":
		f[NotItsName] = 1
	case habit == "":
	case named && made == habit:
		f[FitsHabit] = share
	case named:
		f[OtherPattern] = share
	case naming.Looks(habit, local):
		f[FitsShape] = share
	default:
		f[OtherShape] = share
	}
	return f, follow, of
}
