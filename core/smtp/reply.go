package smtp

import (
	"strconv"
	"strings"
)

// Reply is one reply of a mail host (RFC 5321 section 4.2), all its lines
// together.
type Reply struct {
	// Code is the basic code, 200 to 599.
	Code int
	// Enhanced is the enhanced status code such as "5.1.1" (RFC 3463), ""
	// where the reply has none.
	Enhanced string
	// Lines are the texts after the codes, one for each line.
	Lines []string
}

// Positive tells a 2xx reply.
func (r Reply) Positive() bool { return r.Code/100 == 2 }

// Transient tells a 4xx reply: it may be another one next time.
func (r Reply) Transient() bool { return r.Code/100 == 4 }

// Permanent tells a 5xx reply.
func (r Reply) Permanent() bool { return r.Code/100 == 5 }

// Text joins the lines: hosts fold long texts in the middle of a phrase.
func (r Reply) Text() string { return strings.Join(r.Lines, " ") }

// String is the reply as it came, its lines joined.
func (r Reply) String() string {
	if r.Code == 0 {
		return ""
	}
	s := strconv.Itoa(r.Code)
	if r.Enhanced != "" {
		s += " " + r.Enhanced
	}
	if t := r.Text(); t != "" {
		s += " " + t
	}
	return s
}

// parseLine splits a reply line into code, whether more lines follow, and text.
// RFC 5321 section 4.2.1: three digits, then a hyphen or a space (or the end). Some
// hosts write a tab for the space.
func parseLine(line string) (code int, more bool, text string, ok bool) {
	if len(line) < 3 {
		return 0, false, "", false
	}
	code, err := strconv.Atoi(line[:3])
	if err != nil || code < 200 || code > 599 {
		return 0, false, "", false
	}
	if len(line) == 3 {
		return code, false, "", true
	}
	switch line[3] {
	case '-':
		return code, true, line[4:], true
	case ' ', '\t':
		return code, false, line[4:], true
	}
	return 0, false, "", false
}

// cutEnhanced takes an enhanced status code (RFC 2034) off the front of a text
// when its class fits the basic code.
func cutEnhanced(code int, text string) (enhanced, rest string) {
	word, rest, _ := strings.Cut(strings.TrimLeft(text, " #"), " ")
	word = strings.TrimRight(word, ":")
	class, numbers, _ := strings.Cut(word, ".")
	subject, detail, _ := strings.Cut(numbers, ".")
	if class != strconv.Itoa(code/100) || !upTo3Digits(subject) || !upTo3Digits(detail) {
		return "", text
	}
	return word, rest
}

func upTo3Digits(s string) bool {
	return len(s) >= 1 && len(s) <= 3 && strings.Trim(s, "0123456789") == ""
}

// ParseReply reads a reply from its text, its lines separated by CR LF.
func ParseReply(text string) (r Reply, ok bool) {
	for line := range strings.SplitSeq(text, "\r\n") {
		code, _, rest, ok := parseLine(line)
		if !ok || r.Code != 0 && r.Code != code {
			return Reply{}, false
		}
		r.add(code, rest)
	}
	return r, true
}

// add takes in one line. The enhanced code is the first line's; the others
// only repeat it.
func (r *Reply) add(code int, text string) {
	enhanced, rest := cutEnhanced(code, text)
	if r.Code == 0 {
		r.Enhanced = enhanced
	}
	r.Code = code
	r.Lines = append(r.Lines, rest)
}

// ReplyFrom reads a reply as String writes it; one that is none has code 0.
func ReplyFrom(text string) (r Reply) {
	if code, _, rest, ok := parseLine(text); ok {
		r.add(code, rest)
	}
	return r
}
