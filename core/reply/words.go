package reply

import (
	"embed"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

//go:embed words/*.txt
var files embed.FS

// The words by which a reply shows what it is about: stems in two dozen languages,
// one file for each concept. See phrase for how they are written.
var (
	encryption = load("encryption")
	greylist   = load("greylist")
	later      = load("later")
	verifying  = load("verifying")
	throttle   = load("throttle")
	listed     = load("listed")
	name       = load("name")
	sender     = load("sender")
	login      = load("login")
	relay      = load("relay")
	full       = load("full")
	disabled   = load("disabled")
	moved      = load("moved")
	restricted = load("restricted")
	absent     = load("absent")
	policy     = load("policy")
)

func load(concept string) []phrase {
	text, err := files.ReadFile("words/" + concept + ".txt")
	if err != nil {
		panic(err) // embedded at build time
	}
	var list []string
	for line := range strings.SplitSeq(string(text), "\n") {
		if line != "" && !strings.HasPrefix(line, "# ") {
			list = append(list, line)
		}
	}
	return phrases(list...)
}

// phrase is a text whose parts, written with "…" between them, occur in the reply
// in this order. "_" is the edge of a word; letters carry no accents.
type phrase []part

type part struct {
	text       string
	begin, end bool // must be at the edge of a word there
}

func phrases(list ...string) []phrase {
	out := make([]phrase, len(list))
	for i, line := range list {
		for p := range strings.SplitSeq(line, "…") {
			text := strings.Trim(p, "_")
			out[i] = append(out[i], part{fold(text), strings.HasPrefix(p, "_"), strings.HasSuffix(p, "_")})
		}
	}
	return out
}

// in reports whether the phrase occurs in a text as clean returns it.
func (p phrase) in(text string) bool {
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
		if !(x.begin && letterBefore(text[:begin])) && !(x.end && letterAfter(text[end:])) {
			return end
		}
		from = end
	}
}

func letterBefore(s string) bool {
	r, _ := utf8.DecodeLastRuneInString(s)
	return letter(r)
}

func letterAfter(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return letter(r)
}

// letter reports whether a rune belongs to a word. Scripts that are written
// without spaces have no edges of words, so their signs do not count.
func letter(r rune) bool {
	return r != utf8.RuneError && r < 0x3000 && (unicode.IsLetter(r) || unicode.IsDigit(r))
}

func anyIn(list []phrase, text string) bool {
	for _, p := range list {
		if p.in(text) {
			return true
		}
	}
	return false
}

// plainLetters are letters whose mark is not a combining one.
var plainLetters = strings.NewReplacer("ł", "l", "ø", "o", "đ", "d", "ß", "ss", "æ", "ae", "œ", "oe", "ı", "i", "’", "'", "‘", "'")

// fold writes a text in lower case and without accents: hosts write both ways.
func fold(text string) string {
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
