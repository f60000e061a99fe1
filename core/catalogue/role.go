package catalogue

import "strings"

// isRole reports a name that stands for a task: one that is catalogued, with or without
// what separates its words (plain is the name without), also in the plural, with a number
// behind it, or followed by words that only say which: a team, a department, a country,
// another task.
func (c *Catalogue) isRole(base, plain string) bool {
	if c.except[Entry{Roles, base, true}] {
		return false
	}
	if c.role(base) || plain != base && c.role(plain) {
		return true
	}
	first, others := cutWord(base)
	if first == base || !c.role(first) {
		return false
	}
	for w := ""; others != ""; {
		w, others = cutWord(others)
		if w = strings.TrimRight(w, digits); len(w) > 2 && !c.role(w) && !which[w] {
			return false
		}
	}
	return true
}

// cutWord parts a name behind its first word.
func cutWord(name string) (word, others string) {
	name = strings.TrimLeft(name, separators)
	if i := strings.IndexAny(name, separators); i >= 0 {
		return name[:i], strings.TrimLeft(name[i:], separators)
	}
	return name, ""
}

const digits = "0123456789"

// role reports a catalogued name, in the singular or plural, with or without a number.
func (c *Catalogue) role(name string) bool {
	if c.roles[name] {
		return true
	}
	name = strings.TrimRight(name, digits)
	if name == "" {
		return false
	}
	single, plural := strings.CutSuffix(name, "s")
	return c.roles[name] || plural && len(single) > 3 && c.roles[single] || len(name) > 3 && c.roles[name+"s"]
}

// which are words behind a role that say which one.
var which = func() set {
	s := set{}
	for _, w := range strings.Fields(`team group dept department desk office north south east west central international global europe europa asia africa
		america latam emea apac dach benelux nordic usa deutschland germany austria oesterreich schweiz switzerland france espana spain italia italy
		polska poland nederland belgium belgie brasil brazil mexico canada china japan india uk london paris berlin wien zuerich muenchen hamburg madrid
		milano roma lisboa moscow news list test new old main web online extern intern`) {
		s[w] = true
	}
	return s
}()
