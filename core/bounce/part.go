package bounce

import (
	"bytes"
	"encoding/base64"
	"io"
	"mime"
	"mime/quotedprintable"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/html"
	"golang.org/x/text/encoding/htmlindex"

	"varnet/core/smtp"
)

// The bounds of a message that is read: what is beyond them is left out.
const (
	maxDepth = 8
	maxParts = 60
)

// part is one part of a message (RFC 2045 section 2.4), the message itself included.
// Nothing in a message is an error: systems that report failures write broken MIME as
// often as not, and what can be read of it counts.
type part struct {
	header header
	// kind is the media type in lower case, such as "text/plain"; params its parameters.
	kind   string
	params map[string]string
	// text is the body of a part that holds words, in UTF-8 with LF at the ends of lines.
	text string
	// parts are the parts of a multipart body.
	parts []part
	// message is the message in a part of message/rfc822 and its kin, or its header alone;
	// nil in other parts.
	message *part
}

// reading counts the parts of one message.
type reading struct{ parts int }

// parse reads a message or a part of one. charset is the character set of the parts
// before it: what is named nowhere is taken to be written in that.
func (r *reading) parse(raw []byte, depth int, charset string) part {
	r.parts++
	fields, body := splitHeader(raw)
	p := part{header: readHeader(fields, charset)}
	p.kind, p.params = mediaType(p.header.get("Content-Type"))
	if named := p.params["charset"]; named != "" {
		charset = named
	}
	if strings.HasPrefix(p.kind, "multipart/") {
		if depth < maxDepth {
			r.parseParts(&p, body, depth, charset)
		}
		return p
	}
	body = undoTransfer(p.header.get("Content-Transfer-Encoding"), body)
	switch p.kind {
	case "message/rfc822", "message/global", "text/rfc822-headers", "message/global-headers", "message/rfc822-headers":
		if depth < maxDepth && r.parts < maxParts {
			inner := r.parse(bytes.TrimLeft(body, "\r\n"), depth+1, charset)
			p.message = &inner
		}
	case "text/html":
		p.text = htmlText(decodeText(body, charset))
	default:
		if strings.HasPrefix(p.kind, "text/") || strings.HasPrefix(p.kind, "message/") {
			p.text = decodeText(body, charset)
		}
	}
	return p
}

func (r *reading) parseParts(p *part, body []byte, depth int, charset string) {
	for _, raw := range splitParts(body, p.params["boundary"]) {
		if r.parts >= maxParts {
			return
		}
		inner := r.parse(raw, depth+1, charset)
		if c := inner.params["charset"]; c != "" {
			charset = c
		}
		p.parts = append(p.parts, inner)
	}
}

// walk calls visit for the part and those in it, a message in it excepted unless visit
// goes into that itself.
func (p *part) walk(visit func(*part)) {
	visit(p)
	if strings.HasPrefix(p.kind, "multipart/") {
		for i := range p.parts {
			p.parts[i].walk(visit)
		}
	}
}

// splitHeader cuts a message at its first empty line. A line that an mbox file puts in
// front ("From ", RFC 4155) belongs to neither.
func splitHeader(raw []byte) (fields, body []byte) {
	if bytes.HasPrefix(raw, []byte("From ")) || bytes.HasPrefix(raw, []byte(">From ")) {
		_, raw, _ = bytes.Cut(raw, []byte("\n"))
	}
	for at := 0; at < len(raw); {
		end := bytes.IndexByte(raw[at:], '\n')
		if end < 0 {
			break
		}
		if line := bytes.TrimRight(raw[at:at+end], "\r"); len(line) == 0 {
			return raw[:at], raw[at+end+1:]
		}
		at += end + 1
	}
	return raw, nil
}

// splitParts cuts a multipart body at its boundary lines (RFC 2046 section 5.1.1). A part
// that ends with the message, without a boundary, is a part too.
func splitParts(body []byte, boundary string) (parts [][]byte) {
	if boundary == "" {
		return nil
	}
	mark := []byte("--" + boundary)
	from := -1
	for at := 0; at <= len(body); {
		end := bytes.IndexByte(body[at:], '\n')
		line := body[at:]
		if end >= 0 {
			line = body[at : at+end]
		}
		if rest, is := bytes.CutPrefix(line, mark); is {
			rest = bytes.TrimRight(rest, " \t\r")
			if closing := bytes.Equal(rest, []byte("--")); closing || len(rest) == 0 {
				if from >= 0 {
					parts = append(parts, body[from:at])
				}
				from = at + len(line) + 1
				if closing {
					return parts
				}
			}
		}
		if end < 0 {
			break
		}
		at += end + 1
	}
	if from >= 0 && from < len(body) {
		parts = append(parts, body[from:])
	}
	return parts
}

// mediaType reads a Content-Type; what is none is plain text (RFC 2045 section 5.2).
func mediaType(value string) (string, map[string]string) {
	if value == "" {
		return "text/plain", nil
	}
	kind, params, err := mime.ParseMediaType(value)
	if err == nil || kind != "" && params != nil {
		return kind, params
	}
	kind, rest, _ := strings.Cut(value, ";")
	params = map[string]string{}
	for field := range strings.SplitSeq(rest, ";") {
		if name, v, ok := strings.Cut(field, "="); ok {
			params[strings.ToLower(strings.TrimSpace(name))] = strings.Trim(strings.TrimSpace(v), `"`)
		}
	}
	if kind = strings.ToLower(strings.TrimSpace(kind)); !strings.Contains(kind, "/") {
		kind = "text/plain"
	}
	return kind, params
}

// undoTransfer takes off the content transfer encoding (RFC 2045 section 6). What cannot
// be decoded to its end is taken as far as it goes.
func undoTransfer(encoding string, body []byte) []byte {
	switch strings.ToLower(strings.TrimSpace(encoding)) {
	case "base64":
		plain := bytes.Map(func(r rune) rune {
			if r == '\r' || r == '\n' || r == ' ' || r == '\t' {
				return -1
			}
			return r
		}, body)
		out, _ := io.ReadAll(base64.NewDecoder(base64.StdEncoding, bytes.NewReader(plain)))
		return out
	case "quoted-printable":
		out, _ := io.ReadAll(quotedprintable.NewReader(bytes.NewReader(body)))
		return out
	}
	return body
}

// decodeText returns text in UTF-8, whatever character set it says it is in.
func decodeText(raw []byte, charset string) string {
	return strings.ReplaceAll(strings.ReplaceAll(decodeCharset(raw, charset), "\r\n", "\n"), "\x00", "")
}

func decodeCharset(raw []byte, charset string) string {
	charset = strings.ToLower(strings.TrimSpace(charset))
	if strings.HasSuffix(charset, "utf-7") {
		return fromUTF7(string(raw))
	}
	escaped := bytes.Contains(raw, []byte("\x1b$")) // ISO-2022, which is ASCII by its bytes
	if !escaped && utf8.Valid(raw) {
		return string(raw)
	}
	if charset != "" && charset != "us-ascii" && charset != "utf-8" && charset != "utf8" {
		if enc, err := htmlindex.Get(charset); err == nil {
			if out, err := enc.NewDecoder().Bytes(raw); err == nil {
				return string(out)
			}
		}
	}
	var b strings.Builder
	for line := range bytes.SplitAfterSeq(raw, []byte("\n")) {
		b.WriteString(smtp.Decode(line))
	}
	return strings.ToValidUTF8(b.String(), "\ufffd")
}

// fromUTF7 reads UTF-7 (RFC 2152), in which some old systems write their notices.
func fromUTF7(s string) string {
	var b strings.Builder
	for s != "" {
		plus := strings.IndexByte(s, '+')
		if plus < 0 {
			b.WriteString(s)
			break
		}
		b.WriteString(s[:plus])
		s = s[plus+1:]
		end := strings.IndexFunc(s, func(r rune) bool {
			return !(r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '+' || r == '/')
		})
		if end < 0 {
			end = len(s)
		}
		if end == 0 {
			b.WriteByte('+')
		}
		units, _ := base64.RawStdEncoding.DecodeString(s[:end])
		b.WriteString(fromUTF16(units))
		s = strings.TrimPrefix(s[end:], "-")
	}
	return b.String()
}

func fromUTF16(b []byte) string {
	enc, err := htmlindex.Get("utf-16be")
	if err != nil {
		return ""
	}
	out, err := enc.NewDecoder().Bytes(b[:len(b)&^1])
	if err != nil {
		return ""
	}
	return string(out)
}

// htmlText returns the words of a page, with its paragraphs and line breaks as lines.
func htmlText(page string) string {
	var b strings.Builder
	z := html.NewTokenizer(strings.NewReader(page))
	hidden := 0
	for {
		switch kind := z.Next(); kind {
		case html.ErrorToken:
			return b.String()
		case html.TextToken:
			if hidden == 0 {
				b.WriteString(strings.Join(strings.Fields(string(z.Text())), " ") + " ")
			}
		case html.StartTagToken, html.EndTagToken, html.SelfClosingTagToken:
			name, _ := z.TagName()
			switch string(name) {
			case "style", "script", "title", "head":
				hidden += map[html.TokenType]int{html.StartTagToken: 1, html.EndTagToken: -1}[kind]
				hidden = max(hidden, 0)
			case "p", "div", "br", "tr", "table", "h1", "h2", "h3", "li", "hr", "pre":
				b.WriteByte('\n')
			}
		}
	}
}
