package address

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// readLocal holds a local part against RFC 5321 section 4.1.2:
//
//	Local-part = Dot-string / Quoted-string
//
// with the UTF-8 letters that RFC 6531 section 3.3 adds to atext and qtext. A
// quoted string that does not need its quotes comes back without them.
func readLocal(s string) (string, error) {
	if s[0] == '"' {
		return readQuoted(s)
	}
	s = norm.NFC.String(s)
	if err := checkDotString(s); err != nil {
		return "", err
	}
	return s, nil
}

func checkDotString(s string) error {
	pos, before := 0, '.'
	for _, r := range s {
		pos++
		if r == '.' && before == '.' {
			if pos == 1 {
				return malformed(pos, "The part before the @ begins with a dot.")
			}
			return malformed(pos, "There are two dots in a row.")
		}
		if r != '.' && !atext(r) {
			return malformed(pos, fmt.Sprintf("The part before the @ may not contain the character %s here (position %d).", show(r), pos))
		}
		before = r
	}
	if before == '.' {
		return malformed(pos, "The part before the @ ends with a dot.")
	}
	return nil
}

func readQuoted(s string) (string, error) {
	end := closingQuote(s)
	if end != len(s)-1 {
		return "", malformed(1, "The quoted part before the @ is not closed.")
	}
	var content strings.Builder
	pos := 1
	for i := 1; i < end; {
		r, n := utf8.DecodeRuneInString(s[i:])
		pos++
		if r == '\\' {
			r, n = utf8.DecodeRuneInString(s[i+1:])
			n++
		}
		// qtextSMTP and quoted-pairSMTP hold printable ASCII and space only.
		if r < ' ' || r == 0x7f || (r >= utf8.RuneSelf && !wordly(r)) {
			return "", malformed(pos, fmt.Sprintf("The part before the @ may not contain the character %s here (position %d).", show(r), pos))
		}
		content.WriteRune(r)
		i += n
	}
	if content.Len() == 0 {
		return "", malformed(1, "The quoted part before the @ is empty.")
	}
	plain := norm.NFC.String(content.String())
	if checkDotString(plain) == nil {
		return plain, nil
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(plain) + `"`, nil
}

// atext is RFC 5322 section 3.2.3, and the non-ASCII of RFC 6532 less what
// cannot be seen or would break a line.
func atext(r rune) bool {
	switch {
	case 'a' <= r && r <= 'z', 'A' <= r && r <= 'Z', '0' <= r && r <= '9':
		return true
	case r < utf8.RuneSelf:
		return strings.ContainsRune("!#$%&'*+-/=?^_`{|}~", r)
	}
	return wordly(r)
}

// wordly tells letters, marks, digits and signs from what cannot be seen.
func wordly(r rune) bool {
	return r != utf8.RuneError && unicode.IsPrint(r) && !unicode.IsSpace(r)
}

func show(r rune) string {
	switch {
	case r == ' ':
		return "space"
	case unicode.IsPrint(r):
		return fmt.Sprintf("%q", string(r))
	}
	return fmt.Sprintf("U+%04X", r)
}
