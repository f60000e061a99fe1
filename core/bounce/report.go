package bounce

import (
	"regexp"
	"strconv"
	"strings"

	"varnet/core/reply"
	"varnet/core/say"
)

// recipientFields are the fields of one recipient (RFC 3464 section 2.3); a second one of
// a kind begins the next recipient, also where a host forgets the empty line.
var recipientFields = map[string]bool{"final-recipient": true, "original-recipient": true, "action": true, "status": true}

// group is the fields of a report about one recipient.
type group = header

// readGroups returns the fields about the message, and those about each recipient.
func readGroups(text string) (about header, each []group) {
	var now group
	done := func() {
		if now.has("Final-Recipient") || now.has("Original-Recipient") {
			each = append(each, now)
		} else {
			about = append(about, now...)
		}
		now = nil
	}
	for line := range strings.SplitSeq(text, "\n") {
		line = strings.TrimRight(line, " \t\r")
		if line == "" {
			done()
			continue
		}
		if line[0] == ' ' || line[0] == '\t' {
			if len(now) > 0 {
				now[len(now)-1].value += " " + strings.TrimSpace(line)
			}
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if name = strings.TrimSpace(name); !ok || !fieldName(name) {
			continue
		}
		if recipientFields[strings.ToLower(name)] && now.has(name) {
			done()
		}
		now = append(now, field{name, strings.TrimSpace(value)})
	}
	done()
	return about, join(each)
}

// join puts the fields of one recipient together that an empty line parts, as some hosts
// write one between the addresses and what became of them.
func join(each []group) (whole []group) {
	for _, g := range each {
		last := len(whole) - 1
		if last >= 0 && !whole[last].has("Action") && !whole[last].has("Final-Recipient") {
			whole[last] = append(whole[last], g...)
			continue
		}
		whole = append(whole, g)
	}
	return whole
}

// reportInText returns the fields of a report that a host wrote into the text for people,
// "" where there are none.
func reportInText(text string) string {
	at, _ := indexFold(text, "reporting-mta:")
	if at < 0 {
		at, _ = indexFold(text, "final-recipient:")
	}
	if at < 0 || at > 0 && text[at-1] != '\n' || !strings.Contains(strings.ToLower(text[at:]), "action:") {
		return ""
	}
	return text[at:]
}

// readReport reads a delivery status notification.
func (m *message) readReport(n *Notice) {
	about, each := readGroups(*m.report)
	n.Host = typed(about.get("Reporting-MTA"))
	for i, g := range each {
		if len(n.Recipients) < maxRecipients {
			n.Recipients = append(n.Recipients, m.readRecipient(g, len(each), i))
		}
	}
	n.Kind = kindOf(n.Recipients)
	if len(each) == 0 {
		m.readWords(n)
	}
}

// maxRecipients is how many recipients one notice may name.
const maxRecipients = 1000

// kindOf returns what a report with these recipients is: what failed goes before what is
// late, and that before what arrived.
func kindOf(list []Recipient) Kind {
	kind := Delivery
	for _, r := range list {
		switch r.Action {
		case Failed:
			return Bounce
		case Delayed:
			kind = Delay
		}
	}
	return kind
}

func (m *message) readRecipient(g group, of, index int) Recipient {
	final, original := mailbox(g.get("Final-Recipient")), mailbox(g.get("Original-Recipient"))
	if actual := mailbox(g.get("X-Actual-Recipient")); actual != "" && final != "" {
		original, final = final, actual // Sendmail: the Final-Recipient is the one before its own forwarding
	}
	if final == "" {
		final = original
	}
	if from := m.expandedFrom(final); original == "" || original == final {
		original = from
	}
	if original == "" {
		original = final
	}
	r := Recipient{Address: original, Final: final, Host: typed(g.get("Remote-MTA")), Status: status(g.get("Status"))}
	r.Action = m.action(g.get("Action"), r.Status)
	words, heard := m.diagnostic(g, r)
	r.Words = say.Clip(words, maxReason)
	if r.Action == Failed || r.Action == Delayed {
		r.judge(m.question(r), heard, m.around(final, of == 1))
	}
	return r
}

// action reads what became of the message. Where the field is missing, the class of the
// status says it.
func (m *message) action(value, status string) Action {
	word, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(value)), " ")
	switch a := Action(strings.Trim(word, ";,.")); a {
	case Failed, Delayed, Delivered, Relayed, Expanded:
		return a
	}
	switch {
	case strings.HasPrefix(status, "2"):
		return Delivered
	case strings.HasPrefix(status, "4") && delays.In(m.folded()):
		return Delayed
	}
	return Failed
}

// typed takes the type off a typed value such as "dns; mx.example" (RFC 3464 section 2.1.2).
func typed(value string) string {
	if _, v, ok := strings.Cut(value, ";"); ok {
		value = v
	}
	value, _, _ = strings.Cut(strings.TrimSpace(value), " ")
	return say.Clip(strings.Trim(value, "<>[]()"), 255)
}

// mailbox reads the address of a recipient field: with or without angle brackets, as
// utf-8-addr-xtext (RFC 6533 section 3) or xtext (RFC 3461 section 4). An address of
// another kind of mail, X.400 for one, is returned as it is.
func mailbox(value string) string {
	if value == "" {
		return ""
	}
	kind, v, ok := strings.Cut(value, ";")
	if !ok {
		kind, v = "rfc822", value
	}
	v = strings.TrimSpace(v)
	if strings.EqualFold(strings.TrimSpace(kind), "utf-8") || strings.Contains(v, `\x{`) {
		v = fromAddrXtext(v)
	}
	if found := addresses(v); len(found) > 0 {
		return unXtext(found[0])
	}
	return say.Clip(v, 320)
}

var (
	addrXtext = regexp.MustCompile(`\\x\{([0-9A-Fa-f]{1,6})\}`)
	xtext     = regexp.MustCompile(`\+(2B|3D|40|20)`)
)

func fromAddrXtext(s string) string {
	return addrXtext.ReplaceAllStringFunc(s, func(x string) string {
		r, err := strconv.ParseInt(x[3:len(x)-1], 16, 32)
		if err != nil {
			return x
		}
		return string(rune(r))
	})
}

func unXtext(s string) string {
	return xtext.ReplaceAllStringFunc(s, func(x string) string {
		r, _ := strconv.ParseInt(x[1:], 16, 32)
		return string(rune(r))
	})
}

var statusCode = regexp.MustCompile(`(?:^|[^0-9.])([245]\.\d{1,3}\.\d{1,3})(?:[^0-9.]|\.?$|\.[^0-9])`)

// status returns the first enhanced status code in a text (RFC 3463).
func status(text string) string {
	if found := statusCode.FindStringSubmatch(text); found != nil {
		return found[1]
	}
	return ""
}

// diagnostic returns the reason that a report gives for a recipient, and whether it is a
// reply of another host.
func (m *message) diagnostic(g group, r Recipient) (words string, heard bool) {
	for _, d := range g.all("Diagnostic-Code") {
		kind, v, ok := strings.Cut(d, ";")
		if !ok {
			kind, v = "smtp", d
		}
		kind = strings.ToLower(strings.TrimSpace(kind))
		if v = strings.TrimSpace(v); v != "" && kind != "x-unix" && words == "" {
			words, heard = v, kind == "smtp" || kind == "lmtp"
		}
	}
	return words, heard && code(words) > 0
}

// question is what the host was asked that the reason is of, so that what it quotes is not
// taken for its own words.
func (m *message) question(r Recipient) reply.Question {
	q := reply.Question{Mailbox: r.Final}
	if m.returned != nil {
		q.Sender = first(addresses(m.returned.get("Return-Path")))
	}
	return q
}
