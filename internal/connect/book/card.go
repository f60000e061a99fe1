package book

import (
	"slices"
	"strings"

	"varnet/internal/connect"
)

// line is a content line of a card (RFC 6350, 3.3), with the lines that it is folded into.
type line struct {
	raw  string // as it stands, with its line ends
	head string // what comes before the colon
	name string // in capitals, without group and parameters
	pref bool   // it is the preferred one of its name
	// value is what comes after the colon, unfolded.
	value string
}

// linesOf splits a card into its lines.
func linesOf(text string) (out []line) {
	for raw := range strings.SplitAfterSeq(text, "\n") {
		if raw == "" {
			continue
		}
		if (raw[0] == ' ' || raw[0] == '\t') && len(out) > 0 { // it goes on (RFC 6350, 3.2)
			l := &out[len(out)-1]
			l.raw += raw
			l.value += strings.TrimRight(raw[1:], "\r\n")
			continue
		}
		l := line{raw: raw}
		head, value := cut(strings.TrimRight(raw, "\r\n"))
		l.head, l.value = head, value
		name, params, _ := strings.Cut(head, ";")
		if _, after, ok := strings.Cut(name, "."); ok { // a group
			name = after
		}
		l.name = strings.ToUpper(name)
		params = strings.ToUpper(params)
		l.pref = strings.Contains(params, "PREF")
		out = append(out, l)
	}
	return out
}

// cut splits a line at the colon that is not within quotes.
func cut(text string) (head, value string) {
	quoted := false
	for i, r := range text {
		switch {
		case r == '"':
			quoted = !quoted
		case r == ':' && !quoted:
			return text[:i], text[i+1:]
		}
	}
	return text, ""
}

var unescape = strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\N`, "\n", `\,`, ",", `\;`, ";")

var escape = strings.NewReplacer(`\`, `\\`, "\r\n", `\n`, "\n", `\n`, ",", `\,`, ";", `\;`)

// parts splits a value at a sign that is not escaped.
func parts(value string, at byte) (out []string) {
	from := 0
	for i := 0; i < len(value); i++ {
		switch value[i] {
		case '\\':
			i++
		case at:
			out, from = append(out, value[from:i]), i+1
		}
	}
	return append(out, value[from:])
}

// readable is a value as people read it: the parts of a structured one with gaps between.
func readable(name, value string) string {
	sep := byte(0)
	switch name {
	case "N", "ADR", "ORG":
		sep = ';'
	case "CATEGORIES", "NICKNAME":
		sep = ','
	default:
		return unescape.Replace(value)
	}
	var out []string
	for _, p := range parts(value, sep) {
		if p = strings.TrimSpace(unescape.Replace(p)); p != "" {
			out = append(out, p)
		}
	}
	return strings.Join(out, ", ")
}

// unshown are properties that are not fields: they are about the card, or pictures and sounds.
var unshown = []string{"BEGIN", "END", "VERSION", "PRODID", "REV", "UID", "EMAIL", "PHOTO", "LOGO", "SOUND", "KEY", ""}

// contact is a card as a contact: its key is its path.
func contact(path, text string) connect.Contact {
	c := connect.Contact{Key: path}
	var preferred, others []string
	at := map[string]int{}
	for _, l := range linesOf(text) {
		if l.name == "EMAIL" {
			a := strings.TrimPrefix(unescape.Replace(l.value), "mailto:")
			if l.pref {
				preferred = append(preferred, a)
			} else {
				others = append(others, a)
			}
		}
		if slices.Contains(unshown, l.name) {
			continue
		}
		v := readable(l.name, l.value)
		if i, ok := at[l.name]; ok {
			c.Cells[i].Value += "; " + v
			continue
		}
		at[l.name] = len(c.Cells)
		c.Cells = append(c.Cells, connect.Cell{Name: l.name, Value: v})
	}
	c.Addresses = append(preferred, others...)
	return c
}

// property is the name of a property that a field of any name goes into.
func property(name string) string {
	p := strings.ToUpper(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
			return r
		}
		return '-'
	}, name))
	if slices.Contains([]string{"NOTE", "TITLE", "ROLE", "NICKNAME"}, p) || strings.HasPrefix(p, "X-") {
		return p
	}
	return "X-" + p
}

// valueOf is what a card has of a property.
func valueOf(text, name string) string {
	for _, l := range linesOf(text) {
		if l.name == name {
			return unescape.Replace(l.value)
		}
	}
	return ""
}

// withValue is a card with another value of a property, "" for none; all else stays as it is. Of several lines of the property it is
// the first, as valueOf reads it.
func withValue(text, name, value string) string {
	var out strings.Builder
	done := false
	for _, l := range linesOf(text) {
		switch {
		case done:
		case l.name == name:
			done = true
			if value != "" {
				out.WriteString(folded(l.head + ":" + escape.Replace(value)))
			}
			continue
		case l.name == "END":
			done = true
			if value != "" {
				out.WriteString(folded(name + ":" + escape.Replace(value)))
			}
		}
		out.WriteString(l.raw)
	}
	return out.String()
}

// categories are those of a card.
func categories(text string) (out []string) {
	for _, l := range linesOf(text) {
		if l.name == "CATEGORIES" {
			for _, p := range parts(l.value, ',') {
				if p = strings.TrimSpace(unescape.Replace(p)); p != "" {
					out = append(out, p)
				}
			}
		}
	}
	return out
}

// withCategory is a card with a category, or without it.
func withCategory(text, category string, in bool) string {
	all := slices.DeleteFunc(categories(text), func(c string) bool { return c == category })
	if in {
		all = append(all, category)
	}
	for i := range all {
		all[i] = escape.Replace(all[i])
	}
	var out strings.Builder
	written := len(all) == 0
	write := func() {
		if !written {
			out.WriteString(folded("CATEGORIES:" + strings.Join(all, ",")))
			written = true
		}
	}
	for _, l := range linesOf(text) {
		if l.name == "CATEGORIES" {
			write()
			continue
		}
		if l.name == "END" {
			write()
		}
		out.WriteString(l.raw)
	}
	return out.String()
}

// mostLine is how many bytes a line has before it is folded (RFC 6350, 3.2).
const mostLine = 75

// folded is a content line with its ends.
func folded(text string) string {
	var out strings.Builder
	n := 0
	for _, r := range text {
		size := len(string(r))
		if n+size > mostLine {
			out.WriteString("\r\n ")
			n = 1
		}
		out.WriteRune(r)
		n += size
	}
	out.WriteString("\r\n")
	return out.String()
}
