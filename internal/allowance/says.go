package allowance

import (
	"fmt"
	"time"

	"varnet/core/ledger"
	"varnet/core/say"
	"varnet/internal/store"
)

// day is how a day is written in sentences.
const day = "2 January 2006"

// Says tells what a run may take.
func (s Said) Says() string {
	text := fmt.Sprintf("The list has %s", say.Addresses(s.Addresses))
	if s.Duplicates > 0 {
		text += fmt.Sprintf("; %s not counted", say.Plural(s.Duplicates, "duplicate is", "duplicates are"))
	}
	if s.Reused > 0 {
		text += fmt.Sprintf("; %s reused and not counted", say.Plural(s.Reused, "result is", "results are"))
	}
	if s.Missing > 0 {
		return text + fmt.Sprintf(". It may take up to %s, and %s: %s too few.", say.Plural(s.Most, "check", "checks"), say.Plural(s.Available, "is available", "are available"), say.Number(s.Missing))
	}
	return text + fmt.Sprintf(". It takes at most %s of the %s available, and %s left then. What comes undecided is given back.",
		say.Plural(s.Most, "check", "checks"), say.Number(s.Available), say.Plural(s.Left, "is", "are"))
}

// Says tells where an allowance stands.
func (s State) Says(zone *time.Location) string {
	text := say.Plural(s.Available, "check is available", "checks are available")
	if s.Reserved > 0 {
		text += fmt.Sprintf(", and %s set aside for what goes on", say.Plural(s.Reserved, "is", "are"))
	}
	text += "."
	switch {
	case s.Used30 == 0:
		text += " None were used in the last 30 days."
	case s.Lasts == nil:
		text += fmt.Sprintf(" %s used in the last 30 days; at that pace they last for more than ten years.", say.Plural(s.Used30, "was", "were"))
	default:
		text += fmt.Sprintf(" %s used in the last 30 days; at that pace they last until %s.", say.Plural(s.Used30, "was", "were"), s.Lasts.In(zone).Format(day))
	}
	if s.NextExpiry != nil {
		text += fmt.Sprintf(" %s on %s.", say.Plural(s.Expiring, "expires", "expire"), s.NextExpiry.In(zone).Format(day))
	}
	if s.Plan.Grant > 0 {
		text += fmt.Sprintf(" The plan “%s” grants %s on %s.", s.Plan.Name, say.Number(s.Plan.Grant), s.GrantDue().In(zone).Format(day))
	}
	return text
}

// CostOf tells what a run has cost.
func CostOf(spent []store.Spent) string {
	var charged, reserved, back int64
	open := false
	for _, s := range spent {
		charged += s.Charged
		if s.Open {
			open, reserved = true, reserved+max(0, s.Reserved-s.Charged)
		} else {
			back += max(0, s.Reserved-s.Charged)
		}
	}
	if open {
		return fmt.Sprintf("%s charged so far; %s still set aside.", say.Plural(charged, "check is", "checks are"), say.Plural(reserved, "is", "are"))
	}
	return fmt.Sprintf("It took %s; %s set aside and given back.", say.Plural(charged, "check", "checks"), say.Plural(back, "was", "were"))
}

// Says tells the sums of a statement.
func (s Statement) Says() string {
	came, went := int64(0), int64(0)
	for why, n := range s.Sums {
		if why == ledger.Charge {
			continue
		}
		if n > 0 {
			came += n
		} else {
			went -= n
		}
	}
	text := fmt.Sprintf("%s at the beginning, %s came, %s charged", say.Number(s.Before), say.Number(came), say.Plural(-s.Sums[ledger.Charge], "was", "were"))
	if went > 0 {
		text += fmt.Sprintf(", %s expired or taken back", say.Plural(went, "was", "were"))
	}
	return text + fmt.Sprintf(": %s at the end.", say.Number(s.After))
}
