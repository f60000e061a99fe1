package finding

import (
	"slices"
	"time"
)

// Trait says what an address is like, whatever the finding.
type Trait string

// The traits. A trap is given with its kind.
const (
	TraitRole          Trait = "role"
	TraitNoReply       Trait = "no-reply"
	TraitDisposable    Trait = "disposable"
	TraitFreeMail      Trait = "free-mail"
	TraitTrapListed    Trait = "trap:listed"
	TraitTrapPattern   Trait = "trap:pattern"
	TraitTrapTypo      Trait = "trap:typo-domain"
	TraitTrapRevived   Trait = "trap:revived"
	TraitTypo          Trait = "typo"
	TraitTagged        Trait = "tagged"
	TraitRandomLooking Trait = "random-looking"
	TraitInternational Trait = "international"
	TraitDuplicate     Trait = "duplicate"
	TraitComplained    Trait = "complained"
	TraitUnsubscribed  Trait = "unsubscribed"
)

// Revived reports whether a mailbox that is accepted now was found absent so long
// ago that it may have been opened again as a trap.
func Revived(absent, now time.Time) bool {
	return !absent.IsZero() && absent.Before(RevivedFrom(now))
}

// RevivedFrom is how long ago a mailbox must have been found absent to have been
// opened again as a trap: 6 months, after which mail services are known to do so.
func RevivedFrom(now time.Time) time.Time { return now.AddDate(0, -6, 0) }

// TraitInfo is the registry's entry for one trait.
type TraitInfo struct {
	Code  Trait
	Title string
	// Many is what counted rows with it are called.
	Many    string
	Meaning string
	// Harmful traits put a row out of a mailing under the default policy.
	Harmful bool
}

var traits = []TraitInfo{
	{TraitRole, "Role", "role addresses", "Stands for a task and not for a person, recognised by the name before the @ (RFC 2142 and usage).", false},
	{TraitNoReply, "No-reply", "no-reply addresses", "Says by its name that nobody reads it.", true},
	{TraitDisposable, "Disposable", "disposable addresses", "Its domain is catalogued as one that hands out addresses for a few minutes or days.", true},
	{TraitFreeMail, "Free-mail", "free-mail addresses", "Its domain is catalogued as a mail service that anybody can open a mailbox at.", false},
	{TraitTrapListed, "Listed trap", "listed traps", "Its domain or the address itself is catalogued as a spam trap.", true},
	{TraitTrapPattern, "Trap by pattern", "traps by pattern", "Its name has the shape of addresses that are set out as spam traps.", true},
	{TraitTrapTypo, "Typo-domain trap", "typo-domain traps", "Its domain is catalogued as a misspelling of a large mail service; such domains are kept to catch senders who do not look.", true},
	{TraitTrapRevived, "Revived trap", "revived traps", "It was refused as absent in a run at least 6 months ago and is accepted now.", true},
	{TraitTypo, "Typo", "likely typos", "Its domain is one typing error away from a much more common one, which is suggested.", false},
	{TraitTagged, "Tagged", "tagged addresses", "Carries a tag after a plus sign; it is the same mailbox without it at most hosts.", false},
	{TraitRandomLooking, "Random-looking", "random-looking addresses", "The name before the @ looks like keys struck at random.", false},
	{TraitInternational, "International", "international addresses", "Holds letters outside ASCII (RFC 6531).", false},
	{TraitDuplicate, "Duplicate", "duplicates", "The same address is in an earlier row of the list.", true},
	{TraitComplained, "Complained", "addresses that complained", "Its owner reported a message from this workspace as unwanted.", true},
	{TraitUnsubscribed, "Unsubscribed", "addresses that unsubscribed", "Its owner asked this workspace for no more messages.", true},
}

// TraitInfos lists the registry of traits.
func TraitInfos() []TraitInfo { return append([]TraitInfo(nil), traits...) }

// Traits is a set of traits, sorted and without repetition.
type Traits []Trait

// With returns the set with one more trait in it.
func (t Traits) With(more ...Trait) Traits {
	if len(more) == 0 {
		return t
	}
	out := append(Traits(nil), t...)
	for _, m := range more {
		if !out.Has(m) {
			out = append(out, m)
		}
	}
	slices.Sort(out)
	return out
}

// Has reports whether the trait is in the set.
func (t Traits) Has(x Trait) bool {
	for _, y := range t {
		if x == y {
			return true
		}
	}
	return false
}

// Harmful lists the traits of the set that put a row out of a mailing.
func (t Traits) Harmful() []TraitInfo {
	var out []TraitInfo
	for _, i := range traits {
		if i.Harmful && t.Has(i.Code) {
			out = append(out, i)
		}
	}
	return out
}
