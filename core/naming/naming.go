// Package naming knows how organisations make addresses of the names of their people: which
// pattern the addresses of a domain follow, and what name an address tells where the pattern is
// known.
//
//	h := naming.Habits{}
//	h.See("orchard.example", naming.Name{First: "Ada", Last: "Moss"}, "ada.moss")
package naming

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Name is the name of a person.
type Name struct{ First, Last string }

// Pattern is how a local part is made of a name.
type Pattern string

// The patterns. Those with a separator can be read back.
const (
	FirstDotLast        Pattern = "first.last"
	LastDotFirst        Pattern = "last.first"
	FirstUnderscoreLast Pattern = "first_last"
	FirstHyphenLast     Pattern = "first-last"
	FirstLast           Pattern = "firstlast"
	LastFirst           Pattern = "lastfirst"
	InitialLast         Pattern = "flast"
	InitialDotLast      Pattern = "f.last"
	FirstInitial        Pattern = "firstl"
	FirstAlone          Pattern = "first"
	LastAlone           Pattern = "last"
	LastInitial         Pattern = "lastf"
)

// makers make the local part of each pattern, of folded names.
var makers = []struct {
	Pattern
	make func(first, last string) string
}{
	{FirstDotLast, func(f, l string) string { return f + "." + l }},
	{LastDotFirst, func(f, l string) string { return l + "." + f }},
	{FirstUnderscoreLast, func(f, l string) string { return f + "_" + l }},
	{FirstHyphenLast, func(f, l string) string { return f + "-" + l }},
	{FirstLast, func(f, l string) string { return f + l }},
	{LastFirst, func(f, l string) string { return l + f }},
	{InitialDotLast, func(f, l string) string { return f[:1] + "." + l }},
	{InitialLast, func(f, l string) string { return f[:1] + l }},
	{LastInitial, func(f, l string) string { return l + f[:1] }},
	{FirstInitial, func(f, l string) string { return f + l[:1] }},
	{FirstAlone, func(f, _ string) string { return f }},
	{LastAlone, func(_, l string) string { return l }},
}

// Patterns lists the patterns.
func Patterns() (out []Pattern) {
	for _, m := range makers {
		out = append(out, m.Pattern)
	}
	return out
}

// Shapes lists the shapes.
func Shapes() []Shape {
	return []Shape{TwoWords, InitialWord, Underscored, Hyphenated, OneWord, OtherwiseSet}
}

// Of is the first pattern by which a local part is made of a name, "" for none. Letters with
// marks may be written without them, or as two letters, double names with or without what joins
// them; a number behind tells people of the same name apart.
func Of(n Name, local string) Pattern {
	local = strings.ToLower(local)
	firsts, lasts := spellings(n.First), spellings(n.Last)
	bare := withoutNumber(local)
	for _, m := range makers {
		for _, f := range firsts {
			for _, l := range lasts {
				if f == "" || l == "" {
					continue
				}
				if made := m.make(f, l); made == local || made == bare {
					return m.Pattern
				}
			}
		}
	}
	return ""
}

// Make is the local part that a pattern makes of a name, with its letters as they are typed without
// marks; "" for a name of which a part is missing.
func Make(p Pattern, n Name) string {
	firsts, lasts := spellings(n.First), spellings(n.Last)
	for _, m := range makers {
		if m.Pattern == p && len(firsts) > 0 && len(lasts) > 0 && firsts[0] != "" && lasts[0] != "" {
			return m.make(firsts[0], lasts[0])
		}
	}
	return ""
}

// twoLetters are letters that are written as two where there is no key for them.
var twoLetters = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "ß", "ss", "æ", "ae", "ø", "oe", "å", "aa", "œ", "oe", "þ", "th", "ð", "d", "ł", "l", "đ", "d", "ı", "i")

// oneLetter are those that have no mark to be left out.
var oneLetter = strings.NewReplacer("ß", "ss", "æ", "ae", "ø", "o", "œ", "oe", "þ", "th", "ð", "d", "ł", "l", "đ", "d", "ı", "i")

// spellings are the ways in which a name is written in addresses: of a double name all of it, with
// a hyphen, and its first part alone.
func spellings(name string) []string {
	name = strings.ToLower(norm.NFC.String(strings.TrimSpace(name)))
	ways := []string{plain(oneLetter.Replace(name)), plain(twoLetters.Replace(name))}
	if ways[0] == ways[1] {
		ways = ways[:1]
	}
	var out []string
	add := func(s string) {
		for _, o := range out {
			if o == s {
				return
			}
		}
		out = append(out, s)
	}
	for _, s := range ways {
		parts := strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == '-' })
		if len(parts) == 0 {
			continue
		}
		add(strings.Join(parts, ""))
		add(strings.Join(parts, "-"))
		add(strings.Join(parts, "."))
		add(parts[0])
	}
	return out
}

// plain leaves out marks over and under letters, and what is not a letter, space or hyphen.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r < unicode.MaxASCII && (unicode.IsLetter(r) || r == ' ' || r == '-') {
			return r
		}
		return -1
	}, norm.NFD.String(s))
}

// Read is the name that a local part tells by a pattern; ok is false where the pattern does not
// tell both parts.
func Read(p Pattern, local string) (n Name, ok bool) {
	sep, lastFirst := map[Pattern]string{FirstDotLast: ".", LastDotFirst: ".", FirstUnderscoreLast: "_", FirstHyphenLast: "-"}[p], p == LastDotFirst
	if sep == "" {
		return n, false
	}
	a, b, ok := strings.Cut(strings.ToLower(local), sep)
	if !ok || strings.Contains(b, sep) || !letters(a) || !letters(b) {
		return n, false
	}
	if lastFirst {
		a, b = b, a
	}
	return Name{Capital(a), Capital(b)}, true
}

func letters(s string) bool {
	return len(s) > 1 && strings.IndexFunc(s, func(r rune) bool { return !unicode.IsLetter(r) && r != '-' }) < 0
}

// Habits are the patterns that the known addresses of domains follow.
type Habits map[string]counts

// counts are how many addresses follow each pattern; "" for none.
type counts map[Pattern]int

func (c counts) known() (n int) {
	for _, one := range c {
		n += one
	}
	return n
}

// enough is how many addresses of a domain are looked at.
const enough = 500

// See learns from the address of somebody whose name is known. An address that follows no pattern
// counts, too.
func (h Habits) See(domain string, n Name, local string) {
	if n.First == "" || n.Last == "" {
		return
	}
	of := h[domain]
	if of == nil {
		of = counts{}
		h[domain] = of
	}
	if of.known() < enough {
		of[Of(n, local)]++
	}
}

// The bounds from which on a pattern is a habit: so many addresses follow it, and so large a
// share of those that are known.
const (
	habitFrom  = 3
	habitShare = 0.8
)

// Habit is the pattern of a domain, with how many of its known addresses follow it; "" where
// there is none.
func (h Habits) Habit(domain string) (p Pattern, follow, of int) {
	for _, m := range makers {
		n := h[domain][m.Pattern]
		if n > follow {
			p, follow = m.Pattern, n
		}
	}
	of = h[domain].known()
	if follow < habitFrom || float64(follow) < habitShare*float64(of) {
		return "", follow, of
	}
	return p, follow, of
}

// Shape is what a local part looks like, of whatever name.
type Shape string

// The shapes.
const (
	TwoWords     Shape = "word.word"
	InitialWord  Shape = "w.word"
	Underscored  Shape = "word_word"
	Hyphenated   Shape = "word-word"
	OneWord      Shape = "word"
	OtherwiseSet Shape = "other" // numbers within, three parts, and the like
)

// ShapeOf is the shape of a local part, without the number that tells people of the same name
// apart.
func ShapeOf(local string) Shape {
	local = withoutNumber(strings.ToLower(local))
	for separator, shape := range map[string]Shape{".": TwoWords, "_": Underscored, "-": Hyphenated} {
		a, b, ok := strings.Cut(local, separator)
		switch {
		case !ok || !allLetters(a) || !allLetters(b):
		case separator == "." && utf8.RuneCountInString(a) == 1:
			return InitialWord
		default:
			return shape
		}
	}
	if allLetters(local) {
		return OneWord
	}
	return OtherwiseSet
}

func allLetters(s string) bool {
	return s != "" && strings.IndexFunc(s, func(r rune) bool { return !unicode.IsLetter(r) }) < 0
}

// withoutNumber leaves out the number that tells people of the same name apart.
func withoutNumber(local string) string {
	return strings.TrimRight(strings.TrimRight(local, "0123456789"), "._-")
}
