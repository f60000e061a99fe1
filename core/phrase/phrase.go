// Package phrase finds the phrases by which mail systems say what they mean, in two dozen
// languages: stems and parts of sentences, in text whose case and accents do not count.
package phrase

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Phrase is a text whose parts, written with "…" between them, occur in this order. "_" is
// the edge of a word; letters carry no accents.
type Phrase []part

// List is phrases of one meaning.
type List []Phrase

type part struct {
	text       string
	begin, end bool // must be at the edge of a word there
}

// Of returns the list of phrases as they are written.
func Of(lines ...string) List {
	out := make(List, len(lines))
	for i, line := range lines {
		for p := range strings.SplitSeq(line, "…") {
			text := strings.Trim(p, "_")
			out[i] = append(out[i], part{Fold(text), strings.HasPrefix(p, "_"), strings.HasSuffix(p, "_")})
		}
	}
	return out
}

// Read returns the phrases of a file, one a line; lines that begin with "# " are comments.
func Read(file string) List {
	var lines []string
	for line := range strings.SplitSeq(file, "\n") {
		if line != "" && !strings.HasPrefix(line, "# ") {
			lines = append(lines, line)
		}
	}
	return Of(lines...)
}

// And returns the phrases of this list and of others.
func (l List) And(others ...List) List {
	all := l[:len(l):len(l)]
	for _, o := range others {
		all = append(all, o...)
	}
	return all
}

// In reports whether one of the phrases occurs in a text as Fold returns it.
func (l List) In(text string) bool {
	for _, p := range l {
		if p.in(text) {
			return true
		}
	}
	return false
}

// Texts returns the parts of all phrases.
func (l List) Texts() (texts []string) {
	for _, p := range l {
		for _, x := range p {
			texts = append(texts, x.text)
		}
	}
	return texts
}

// in reports whether the phrase occurs in a text as Fold returns it.
func (p Phrase) in(text string) bool {
	for _, x := range p {
		end := x.after(text)
		if end < 0 {
			return false
		}
		text = text[end:]
	}
	return true
}

// after returns where the part ends in the text, -1 where it does not occur.
func (x part) after(text string) int {
	for from := 0; ; {
		i := strings.Index(text[from:], x.text)
		if i < 0 {
			return -1
		}
		begin, end := from+i, from+i+len(x.text)
		if !(x.begin && LetterBefore(text[:begin])) && !(x.end && LetterAfter(text[end:])) {
			return end
		}
		from = end
	}
}

// LetterBefore reports whether a text ends inside a word.
func LetterBefore(s string) bool {
	r, _ := utf8.DecodeLastRuneInString(s)
	return letter(r)
}

// LetterAfter reports whether a text begins inside a word.
func LetterAfter(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return letter(r)
}

// letter reports whether a rune belongs to a word. Scripts that are written
// without spaces have no edges of words, so their signs do not count.
func letter(r rune) bool {
	return r != utf8.RuneError && r < 0x3000 && (unicode.IsLetter(r) || unicode.IsDigit(r))
}

// plainLetters are letters whose mark is not a combining one.
var plainLetters = strings.NewReplacer("ł", "l", "ø", "o", "đ", "d", "ß", "ss", "æ", "ae", "œ", "oe", "ı", "i", "’", "'", "‘", "'")

// Fold writes a text in lower case and without accents: hosts write both ways.
func Fold(text string) string {
	ascii := true
	for i := 0; i < len(text); i++ {
		ascii = ascii && text[i] < utf8.RuneSelf
	}
	if text = strings.ToLower(text); ascii {
		return text
	}
	text = strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFD.String(plainLetters.Replace(text)))
	return norm.NFC.String(text)
}
