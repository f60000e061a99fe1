package naming

import (
	"slices"
	"strings"
	"unicode"
)

// titles stand before names and are not part of them.
var titles = []string{"dr", "prof", "mr", "mrs", "ms", "miss", "mx", "herr", "frau", "mme", "m", "ing", "dipl", "rev", "sir", "fr"}

// particles begin a last name, and are written small within a name.
var particles = []string{"van", "von", "de", "der", "den", "di", "da", "del", "della", "dos", "du", "la", "le", "ten", "ter", "zu", "zur", "af", "av", "bin", "ibn", "el", "al", "y"}

// Parse parts a full name: "Ada Moss", "Moss, Ada", "Dr. Jan van der Berg". A single word is a
// first name.
func Parse(full string) Name {
	if last, first, ok := strings.Cut(full, ","); ok && strings.TrimSpace(first) != "" {
		return Name{strings.Join(withoutTitles(strings.Fields(first)), " "), strings.Join(strings.Fields(last), " ")}
	}
	words := withoutTitles(strings.Fields(strings.TrimRight(full, ", ")))
	switch len(words) {
	case 0:
		return Name{}
	case 1:
		return Name{First: words[0]}
	}
	from := len(words) - 1
	for i := 1; i < len(words); i++ {
		if slices.Contains(particles, strings.ToLower(words[i])) && i < len(words)-1 {
			from = i
			break
		}
	}
	return Name{strings.Join(words[:from], " "), strings.Join(words[from:], " ")}
}

func withoutTitles(words []string) []string {
	for len(words) > 1 && slices.Contains(titles, strings.ToLower(strings.TrimRight(words[0], "."))) {
		words = words[1:]
	}
	return words
}

// Capital writes a name as it stands in a salutation, where it is written all large or all small:
// "ADA MOSS-BERG" as "Ada Moss-Berg", "jan van der berg" as "Jan van der Berg". A name that is
// written with care is left as it is.
func Capital(name string) string {
	if mixed(name) {
		return name
	}
	words := strings.Fields(strings.ToLower(name))
	for i, w := range words {
		if i > 0 && i < len(words)-1 && slices.Contains(particles, w) {
			continue
		}
		words[i] = capitalWord(w)
	}
	return strings.Join(words, " ")
}

// mixed reports whether large and small letters are set as somebody chose to.
func mixed(name string) bool {
	upper, lower := 0, 0
	for _, r := range name {
		switch {
		case unicode.IsUpper(r):
			upper++
		case unicode.IsLower(r):
			lower++
		}
	}
	return upper > 0 && lower > 0
}

// capitalWord begins each part of a word with a large letter, and what follows Mc and O'.
func capitalWord(w string) string {
	out, start := []rune(w), true
	for i, r := range out {
		if start {
			out[i] = unicode.ToTitle(r)
		}
		start = r == '-' || r == '\'' || r == '’' && i < len(out)-2
	}
	if len(out) > 3 && out[0] == 'M' && out[1] == 'c' {
		out[2] = unicode.ToTitle(out[2])
	}
	return string(out)
}
