package bounce

import (
	"regexp"
	"strconv"
	"strings"

	"varnet/core/finding"
	"varnet/core/phrase"
	"varnet/core/reply"
	"varnet/core/say"
)

// replyCode finds a reply of a host in a text: its basic code at the beginning of a line,
// or behind what a notice puts before a reply.
var replyCode = regexp.MustCompile(`(?:^|[\n\s:#"'(<>\[])([45]\d\d)(?:[-\s:]+#?\(?([245]\.\d{1,3}\.\d{1,3})\)?)?(?:[\s:,;\-"')]|$)`)

// code returns the basic code of the first reply in a text, 0 where there is none.
func code(text string) int {
	if at := findReply(text); at != nil {
		n, _ := strconv.Atoi(text[at[2]:at[3]])
		return n
	}
	return 0
}

// findReply returns where a reply is in a text, as replyCode's submatches; a number of
// lines, days or bytes is none.
func findReply(text string) []int {
	for from := 0; from < len(text); {
		at := replyCode.FindStringSubmatchIndex(text[from:])
		if at == nil {
			return nil
		}
		for i := range at {
			if at[i] >= 0 {
				at[i] += from
			}
		}
		if !counts.MatchString(text[at[3]:]) {
			return at
		}
		from = at[3]
	}
	return nil
}

// replyText returns the text of a reply up to where a transcript goes on with something
// else: the next line of a dialogue, another reply, what the notice says of it.
func replyText(text, code string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if i > 0 && goesOn.MatchString(line) && !strings.HasPrefix(strings.TrimSpace(line), code+"-") {
			return strings.Join(lines[:i], "\n")
		}
	}
	return text
}

// goesOn begins a line of a notice that no longer belongs to the reply before it.
var goesOn = regexp.MustCompile(`(?i)^\s*(?:<<<|>>>|---|[245]\d\d[ -]|giving up on|i'm not going to try)|<--|-->`)

// counts is what makes a number of three digits no code.
var counts = regexp.MustCompile(`(?i)^[ ]?(?:days?|hours?|hrs|minutes?|mins?|seconds?|secs?|bytes?|kb|mb|k|m|characters?|lines?|tage|jours|dias|giorni)\b`)

// reported returns a reason as a reply: the code in its words, or that of the report.
func reported(words, code string, heard, data bool) reply.Reported {
	r := reply.Reported{Heard: heard, Data: data}
	if at := findReply(words); at != nil {
		r.Reply.Code, _ = strconv.Atoi(words[at[2]:at[3]])
		if at[4] >= 0 {
			r.Reply.Enhanced = words[at[4]:at[5]]
		}
		words = strings.TrimLeft(replyText(words[at[3]:], words[at[2]:at[3]]), " -:\t\n")
	} else if strings.HasPrefix(code, "4") {
		r.Reply.Code = 450
	} else {
		r.Reply.Code = 550
	}
	if r.Reply.Enhanced == "" {
		r.Reply.Enhanced = status(words)
	}
	if r.Reply.Enhanced == "" && !strings.HasSuffix(code, ".0.0") {
		r.Reply.Enhanced = code
	}
	if strings.HasSuffix(r.Reply.Enhanced, ".0.0") {
		r.Reply.Enhanced = ""
	}
	r.Reply.Lines = []string{words}
	return r
}

// told is what a reason is taken from.
type told struct {
	words string
	heard bool
}

// judge reads why the recipient was not reached: what the report quotes, then what the
// text says of this recipient, then more of the text, until one of them says whom it is
// about. permanent follows from that.
func (r *Recipient) judge(q reply.Question, heard bool, around []string) {
	var sources []told
	quoted := r.Words != ""
	if quoted {
		sources = append(sources, told{r.Words, heard})
	}
	for _, text := range around {
		sources = append(sources, told{text, code(text) > 0})
	}
	if len(sources) == 0 {
		sources = []told{{"", false}}
	}
	for i, s := range sources {
		data := afterData.In(phrase.Fold(s.words)) || i == 0 && len(around) > 0 && afterData.In(phrase.Fold(around[0]))
		m := reply.ReadReported(reported(inReplyTo.ReplaceAllString(s.words, ""), r.class(), s.heard, data), q)
		if i == 0 || clearer(m, r.Meaning) {
			r.Meaning = m
			if !quoted {
				r.Words = r.reasonOf(s.words)
			}
		}
		if !vague(r.Meaning) {
			break
		}
	}
	r.Permanent = r.Action == Failed && lasting(r.Meaning, r.Words, r.Status)
}

// class returns the status that goes with a reason without a code: that of the report, or
// that a host goes on trying.
func (r *Recipient) class() string {
	if r.Status == "" && r.Action == Delayed {
		return "4.0.0"
	}
	return r.Status
}

// reasonOf returns what a text says of the reason: where it holds nothing but the address,
// the status that the report gives.
func (r *Recipient) reasonOf(text string) string {
	if r.Status != "" && !wordsBeside(text, r.Final) {
		return "Status: " + r.Status
	}
	return say.Clip(strings.TrimSpace(text), maxReason)
}

// clearer reports whether a meaning says more than one that says little. A refusal by some
// policy is about us until the words beside it speak of the mailbox.
func clearer(m, than reply.Meaning) bool {
	if vague(m) {
		return false
	}
	return than.About != reply.Us || m.About == reply.Mailbox || m.About == reply.Domain || m.About == reply.Content
}

// vague reports a meaning that does not say whom it is about.
func vague(m reply.Meaning) bool { return m.Vague() || m.Effect == reply.Accepted }

// lasting reports whether the reason will not pass by itself.
func lasting(m reply.Meaning, words, status string) bool {
	if m.About != reply.Mailbox && m.About != reply.Domain || m.Cause == finding.MailboxFull || m.Cause == finding.DomainUnresolved {
		return false
	}
	if m.About == reply.Domain && m.Cause == finding.MailboxUnclear {
		return false // the wrong host was asked, by whose mistake is not said
	}
	class := code(words) / 100
	if class == 0 && status != "" {
		class = int(status[0] - '0')
	}
	return class != 4
}

var (
	// inReplyTo is what Postfix writes behind a reply.
	inReplyTo = regexp.MustCompile(`\s*\(in reply to [^)]*\)`)
	afterData = phrase.Of("in reply to end of data", "after end of data", "end of data command", "after data", "dot", "end of message", "message content rejected", ">>> data", "after pipelined data", "in reply to data", "after i sent the message")
)
