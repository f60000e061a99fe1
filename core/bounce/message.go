package bounce

import (
	"strings"
)

// message is a message taken apart.
type message struct {
	header header
	// words is the text for people, before any message that is returned as text.
	words string
	// returned is the header of the message that came back, nil where there is none.
	returned header
	// report is the text of a delivery status part, nil where there is none; complaint
	// that of a feedback report.
	report, complaint *string
	// receipt reports a disposition notification (RFC 8098), other another report that is
	// not about delivery.
	receipt, other bool
}

// open takes a message apart.
func open(raw []byte) message {
	var r reading
	whole := r.parse(raw, 0, "")
	m := message{header: whole.header}
	var plain, page []string
	whole.walk(func(p *part) {
		text := p.text
		if p.message != nil && m.returned == nil {
			m.returned = p.message.header
		}
		switch p.kind {
		case "message/delivery-status", "message/global-delivery-status":
			m.report = &text
		case "message/feedback-report":
			m.complaint = &text
		case "message/disposition-notification", "message/global-disposition-notification":
			m.receipt = true
		case "text/html":
			page = append(page, text)
		default:
			if strings.HasPrefix(p.kind, "text/") && p.message == nil {
				plain = append(plain, text)
			}
		}
	})
	if blank(plain) {
		plain = page
	}
	m.takeWords(strings.Join(plain, "\n"))
	kind := strings.ToLower(whole.params["report-type"])
	m.other = whole.kind == "multipart/report" && kind != "" && kind != "delivery-status" && kind != "feedback-report" && m.report == nil && m.complaint == nil
	return m
}

func blank(texts []string) bool { return strings.TrimSpace(strings.Join(texts, "")) == "" }

// takeWords cuts what is said to people off a message that is returned as plain text, and
// off the fields of a report that were written into the text.
func (m *message) takeWords(text string) {
	lines := strings.Split(text, "\n")
	at := originalAt(lines)
	m.words = strings.Join(lines[:at], "\n")
	if at < len(lines) && m.returned == nil {
		fields, _ := splitHeader([]byte(strings.Join(lines[at:], "\n")))
		m.returned = readHeader(fields, "utf-8")
	}
	if m.report == nil {
		if fields := reportInText(m.words); fields != "" {
			m.report = &fields
		}
	}
}

// sentTo returns the addresses a message came to: those that the receiving host wrote down
// of the envelope, then its To.
func (m *message) sentTo() (to []string) {
	seen := map[string]bool{}
	for _, name := range []string{"X-Original-To", "Delivered-To", "Envelope-To", "X-Envelope-To", "To"} {
		for _, value := range m.header.all(name) {
			for _, a := range addresses(value) {
				if key := strings.ToLower(a); !seen[key] && len(to) < 20 {
					seen[key] = true
					to = append(to, a)
				}
			}
		}
	}
	return to
}

// original returns what the message shows of the one that it is about.
func (m *message) original() Original {
	o := Original{References: append(ids(m.header.get("In-Reply-To")), ids(m.header.get("References"))...)}
	for _, name := range []string{"Reference", "X-Original-Message-ID", "Original-Message-ID"} {
		o.References = append(o.References, ids(m.header.get(name))...)
	}
	if m.returned == nil {
		return o
	}
	o.Known = true
	o.ID = id(m.returned.get("Message-ID"))
	o.To = addresses(m.returned.get("To"))
	for _, name := range []string{"X-Original-To", "Delivered-To", "Envelope-To"} {
		o.To = append(o.To, addresses(m.returned.get(name))...)
	}
	o.ReturnPath = first(addresses(m.returned.get("Return-Path")))
	return o
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}
