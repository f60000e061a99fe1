package address

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/width"
)

// mend takes off what files wrap around addresses, step by step, and says what
// it took.
func mend(cell string) (text string, mended []string) {
	text = cell
	if wellFormed(text) {
		return text, nil
	}
	for _, s := range steps {
		if after := s.apply(text); after != text {
			mended = append(mended, s.says)
			text = after
		}
	}
	return text, mended
}

// wellFormed tells the ordinary address, at which no step has anything to do:
// the great majority of cells.
func wellFormed(s string) bool {
	at := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case letterDigit(rune(c)), c == '-', c == '_', c == '+':
		case c == '.':
			if i == len(s)-1 {
				return false
			}
		case c == '@':
			at++
		default:
			return false
		}
	}
	return at == 1
}

type step struct {
	says  string
	apply func(string) string
}

var steps = []step{
	{"invisible characters removed", dropInvisible},
	{"full-width characters made ordinary", narrow},
	{"look-alike letters made Latin", latin},
	{"spaces around it removed", strings.TrimSpace},
	{"display name and angle brackets removed", unwrapAngle},
	{"“mailto:” removed", dropMailto},
	{"punctuation around it removed", trimPunctuation},
	{"quotes around it removed", unquote},
	{"spaces around the @ removed", joinAt},
}

// dropInvisible removes zero-width characters, byte order marks and direction
// signs, and makes every kind of space an ordinary one.
func dropInvisible(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\u00ad' || r == '\ufeff' || unicode.Is(unicode.Cf, r):
			return -1
		case r != '\n' && r != '\r' && unicode.IsSpace(r):
			return ' '
		}
		return r
	}, s)
}

// narrow turns full-width forms (U+FF01 to U+FF5E, as typed with an East Asian
// keyboard) and the ideographic full stop into their ASCII twins.
func narrow(s string) string {
	if ascii(s) {
		return s
	}
	return strings.Map(func(r rune) rune {
		switch {
		case r == '。' || r == '｡':
			return '.'
		case 0xff01 <= r && r <= 0xff5e:
			return []rune(width.Narrow.String(string(r)))[0]
		}
		return r
	}, s)
}

// lookAlikes are Cyrillic and Greek letters that cannot be told from Latin ones.
var lookAlikes = strings.NewReplacer("а", "a", "е", "e", "о", "o", "р", "p", "с", "c", "у", "y", "х", "x", "і", "i", "ј", "j", "ѕ", "s",
	"А", "A", "В", "B", "Е", "E", "К", "K", "М", "M", "Н", "H", "О", "O", "Р", "P", "С", "C", "Т", "T", "Х", "X", "ο", "o", "ν", "v", "Α", "A", "Ο", "O")

// latin makes look-alikes Latin in words that are Latin otherwise: a word in
// another script keeps its letters, for it may be meant so.
func latin(s string) string {
	if ascii(s) {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		n := strings.IndexFunc(s, betweenWords)
		switch {
		case n < 0:
			n = len(s)
		case n == 0:
			_, n = utf8.DecodeRuneInString(s)
		}
		b.WriteString(latinWord(s[:n]))
		s = s[n:]
	}
	return b.String()
}

func betweenWords(r rune) bool { return r < utf8.RuneSelf && !letterDigit(r) }

func latinWord(w string) string {
	if t := lookAlikes.Replace(w); ascii(t) && strings.ContainsFunc(w, letterDigit) {
		return t
	}
	return w
}

// unwrapAngle takes the address out of `Ada Moss <ada@fernhollow.example>`.
func unwrapAngle(s string) string {
	open, end := strings.LastIndexByte(s, '<'), strings.LastIndexByte(s, '>')
	wraps := end >= 0 && strings.Trim(s[end+1:], " ,;.") == ""
	if wraps && open >= 0 && end > open+1 && strings.ContainsRune(s[open:end], '@') {
		return strings.TrimSpace(s[open+1 : end])
	}
	return s
}

func dropMailto(s string) string {
	const scheme = "mailto:"
	if len(s) <= len(scheme) || !strings.EqualFold(s[:len(scheme)], scheme) {
		return s
	}
	s = s[len(scheme):]
	if i := strings.IndexByte(s, '?'); i > strings.IndexByte(s, '@') {
		s = s[:i]
	}
	return s
}

func trimPunctuation(s string) string {
	s = strings.TrimRight(s, " ,;:.!>)]")
	if strings.HasSuffix(strings.TrimLeft(s, " ,;:<(["), s) {
		// A bracket that was cut off belongs to an address literal.
		if i := strings.LastIndexByte(s, '@'); i >= 0 && strings.HasPrefix(s[i+1:], "[") {
			return s + "]"
		}
	}
	return strings.TrimLeft(s, " ,;:<([")
}

// unquote removes quotes around the whole address; quotes around the local
// part alone are part of it.
func unquote(s string) string {
	for _, q := range []string{`"`, `'`, "`", "“”", "‘’", "«»", "„“"} {
		r := []rune(q)
		first, last := string(r[0]), string(r[len(r)-1])
		if len(s) > len(first)+len(last) && strings.HasPrefix(s, first) && strings.HasSuffix(s, last) {
			return strings.TrimSpace(s[len(first) : len(s)-len(last)])
		}
	}
	return s
}

func joinAt(s string) string {
	if i := strings.IndexByte(s, '@'); i > 0 && strings.Count(s, "@") == 1 {
		return strings.TrimRight(s[:i], " ") + "@" + strings.TrimLeft(s[i+1:], " ")
	}
	return s
}
