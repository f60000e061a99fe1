package bounce

import (
	"io"
	"mime"
	"strings"

	"golang.org/x/text/encoding/htmlindex"
)

// header is the fields of a message or a part (RFC 5322 section 2.2), unfolded, with
// their encoded words (RFC 2047) read.
type header []field

type field struct{ name, value string }

// get returns the first field of a name, "" where there is none.
func (h header) get(name string) string { return first(h.all(name)) }

// all returns every field of a name.
func (h header) all(name string) (values []string) {
	for _, f := range h {
		if strings.EqualFold(f.name, name) {
			values = append(values, f.value)
		}
	}
	return values
}

func (h header) has(name string) bool { return len(h.all(name)) > 0 }

// words reads encoded words in every character set that x/text knows, and in UTF-7.
var words = mime.WordDecoder{CharsetReader: func(charset string, in io.Reader) (io.Reader, error) {
	if strings.HasSuffix(charset, "utf-7") {
		raw, err := io.ReadAll(in)
		return strings.NewReader(fromUTF7(string(raw))), err
	}
	enc, err := htmlindex.Get(charset)
	if err != nil {
		return nil, err
	}
	return enc.NewDecoder().Reader(in), nil
}}

// readHeader reads fields; a line that is none ends nothing and is left out.
func readHeader(raw []byte, charset string) (h header) {
	for line := range strings.SplitSeq(decodeText(raw, charset), "\n") {
		if line != "" && (line[0] == ' ' || line[0] == '\t') {
			if len(h) > 0 {
				h[len(h)-1].value += " " + strings.TrimSpace(line)
			}
			continue
		}
		if name, value, ok := strings.Cut(line, ":"); ok && fieldName(strings.TrimRight(name, " \t")) {
			h = append(h, field{strings.TrimRight(name, " \t"), strings.TrimSpace(value)})
		}
	}
	for i, f := range h {
		if !strings.Contains(f.value, "=?") {
			continue
		}
		if plain, err := words.DecodeHeader(f.value); err == nil {
			h[i].value = strings.ReplaceAll(strings.ToValidUTF8(plain, "\ufffd"), "\x00", "") // encoded words can hold any bytes
		}
	}
	return h
}

// fieldName reports whether a text may be the name of a field (RFC 5322 section 3.6.8).
func fieldName(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] <= ' ' || s[i] > '~' || s[i] == ':' {
			return false
		}
	}
	return s != "" && len(s) < 80
}

// originalAt returns where the lines of a text begin to be the header of a message that
// was sent back as plain text: three fields in a row, one of them of every message. It
// returns the number of lines where none do.
func originalAt(lines []string) int {
	for i, line := range lines {
		if name, _, ok := strings.Cut(line, ":"); !ok || !fieldName(name) || !letterFields[strings.ToLower(name)] {
			continue
		}
		if fieldsFrom(lines[i:]) >= 3 {
			return i
		}
	}
	return len(lines)
}

// letterFields are fields a message that is returned begins with.
var letterFields = map[string]bool{
	"return-path": true, "received": true, "dkim-signature": true, "from": true, "date": true, "message-id": true,
	"x-original-to": true, "delivered-to": true, "authentication-results": true, "arc-seal": true, "x-received": true,
	"mime-version": true, "to": true, "subject": true, "reply-to": true, "list-unsubscribe": true, "sender": true, "x-mailing": true,
}

func fieldsFrom(lines []string) (n int) {
	for _, line := range lines {
		if line == "" {
			return n
		}
		if line[0] == ' ' || line[0] == '\t' {
			continue
		}
		name, _, ok := strings.Cut(line, ":")
		if !ok || !fieldName(name) {
			return n
		}
		n++
	}
	return n
}
