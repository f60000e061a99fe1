package bounce

import (
	"strings"
	"time"

	"varnet/core/finding"
	"varnet/core/phrase"
	"varnet/core/reply"
	"varnet/core/say"
)

// Row is a line of a table in which a sending tool says what became of letters.
type Row struct {
	Address string
	// Outcome is what the tool calls what became of the letter, Reason the words of the
	// host, or the tool's own; both can be empty.
	Outcome, Reason string
	// MessageID is without angle brackets; "" where the table has none.
	MessageID string
	// To is the return address of the letter; "" where the table has none.
	To string
	At time.Time
}

// Meaning of an outcome as a tool calls it.
const (
	MeansBounced   = "bounced"    // failed, for good unless the reason says otherwise
	MeansPassing   = "passing"    // failed, and the tool says that it may pass
	MeansDelayed   = "delayed"    // still tried
	MeansComplaint = "complained" // reported as unwanted
	MeansNothing   = "nothing"    // delivered, opened, anything else
)

// Meanings lists what an outcome of a table can mean.
func Meanings() []string {
	return []string{MeansBounced, MeansPassing, MeansDelayed, MeansComplaint, MeansNothing}
}

// what tools call outcomes, in the order in which they are tried.
var called = []struct {
	means   string
	phrases phrase.List
}{
	{MeansComplaint, phrase.Of("complain", "spam report", "abuse", "feedback loop", "beschwerde", "plainte", "queja", "reclamo")},
	{MeansDelayed, phrase.Of("delay", "defer", "queued", "retry", "verzoger", "retard")},
	{MeansPassing, phrase.Of("soft", "transient", "temporar", "block", "weich", "vorubergehend", "temporaire")},
	{MeansBounced, phrase.Of("bounce", "hard", "permanent", "fail", "undeliver", "reject", "invalid", "unzustellbar", "rebond", "rebote", "rimbalz")},
}

// Guess returns what an outcome of a table means by its words.
func Guess(outcome string) string {
	text := phrase.Fold(outcome)
	for _, c := range called {
		if c.phrases.In(text) {
			return c.means
		}
	}
	return MeansNothing
}

// FromRow returns what a row says as a notice. means says what the tool's word for the
// outcome means, one of Meanings. The words of the host decide before the tool does: a full
// mailbox that a tool calls gone may be written to again, and no reason at all leaves the
// decision with the tool.
func FromRow(r Row, means string) Notice {
	n := Notice{Kind: Other, At: r.At, Subject: strings.TrimSpace(r.Outcome), Words: say.Clip(strings.TrimSpace(r.Reason), maxWords)}
	if r.MessageID != "" {
		n.Original.ID, n.Original.Known = r.MessageID, true
	}
	if r.To != "" {
		n.To = []string{r.To}
	}
	one := Recipient{Address: r.Address, Final: r.Address, Status: status(r.Reason), Words: say.Clip(strings.TrimSpace(r.Reason), maxReason)}
	switch means {
	case MeansComplaint:
		n.Kind, n.Recipients = Complaint, []Recipient{one}
		return n
	case MeansBounced, MeansPassing:
		n.Kind, one.Action = Bounce, Failed
	case MeansDelayed:
		n.Kind, one.Action = Delay, Delayed
	default:
		return n
	}
	one.judgeRow(means)
	n.Recipients = []Recipient{one}
	return n
}

func (r *Recipient) judgeRow(means string) {
	if r.Words != "" {
		r.judge(reply.Question{Mailbox: r.Address}, code(r.Words) > 0, nil)
	}
	if r.Words == "" || vague(r.Meaning) {
		r.Meaning = reply.Meaning{About: reply.Mailbox, Effect: reply.Unclear, Cause: finding.MailboxUnclear, Why: "The table says so, and gives no reason that tells more."}
		r.Permanent = r.Action == Failed && means == MeansBounced
	}
	r.Permanent = r.Permanent && means == MeansBounced
}
