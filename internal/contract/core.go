package contract

import (
	"net/netip"
	"strings"
	"time"

	"varnet/core/finding"
	"varnet/core/outbound"
	"varnet/core/policy"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/rule"
	"varnet/core/smtp"
)

// What the core knows, as the API shows it. The types of the core have no JSON of their
// own, so that a name may change there without changing the API.

// Dialect is how a file is written.
type Dialect struct {
	Delimiter string `json:"delimiter" doc:"The delimiter between cells; empty for one cell a line."`
	Quote     string `json:"quote" doc:"The quotes around cells that hold delimiters or line ends."`
	Encoding  string `json:"encoding" doc:"The text encoding, such as utf-8 or windows-1252."`
	Header    bool   `json:"header" doc:"Whether the first record names the columns."`
}

// Share is an interval of shares.
type Share struct {
	Low  float64 `json:"low" doc:"The lower end, 0 to 1."`
	High float64 `json:"high" doc:"The upper end, 0 to 1."`
}

// Count is how many rows share a decision and its reason.
type Count struct {
	Decision policy.Decision   `json:"decision" enum:"keep,hold,drop" doc:"What to do with these rows."`
	Code     policy.ReasonCode `json:"code" enum:"rule,otherwise,no-address,duplicate,open,override" doc:"Why: a rule of the policy, none that matches, or what goes before the policy."`
	Reason   string            `json:"reason" doc:"The reason in words, as a noun for a sentence."`
	Rows     int64             `json:"rows" doc:"How many rows."`
}

// Policy is an ordered list of rules.
type Policy struct {
	Name      string          `json:"name" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"40" doc:"Its name: small letters, digits and hyphens."`
	Version   int             `json:"version,omitempty" doc:"Counts its changes; ready-made policies have none."`
	For       string          `json:"for,omitempty" maxLength:"300" doc:"When it is the right one, in a sentence."`
	Rules     []PolicyRule    `json:"rules" maxItems:"100" doc:"The first rule that matches a row decides."`
	Otherwise policy.Decision `json:"otherwise,omitempty" enum:"keep,hold,drop" doc:"What is done with rows that no rule matches; drop unless given."`
}

// PolicyRule decides on the rows that match all of what it names, and of each kind any.
type PolicyRule struct {
	Do        policy.Decision   `json:"do" enum:"keep,hold,drop" doc:"What is done with the rows that match."`
	Findings  []finding.Finding `json:"findings,omitempty" maxItems:"4" doc:"One of these findings."`
	Causes    []finding.Cause   `json:"causes,omitempty" maxItems:"40" doc:"One of these causes."`
	Traits    []finding.Trait   `json:"traits,omitempty" maxItems:"20" doc:"One of these traits."`
	OddsFrom  float64           `json:"oddsFrom,omitempty" minimum:"0" maximum:"1" doc:"At least these odds."`
	OddsBelow float64           `json:"oddsBelow,omitempty" minimum:"0" maximum:"1" doc:"Odds below this."`
	Domains   []string          `json:"domains,omitempty" maxItems:"1000" doc:"One of these domains; * stands for any text."`
	Operators []string          `json:"operators,omitempty" maxItems:"1000" doc:"One of these operators; * stands for any text."`
	Column    string            `json:"column,omitempty" maxLength:"500" doc:"A column of the list."`
	Values    []string          `json:"values,omitempty" maxItems:"1000" doc:"What the cell in that column holds: one of these, whatever the case; * stands for any text."`
	TermLists []string          `json:"termLists,omitempty" maxItems:"50" doc:"A term of one of these saved lists of terms stands in the column, or in any where none is named."`
	How       string            `json:"how,omitempty" enum:"cell,word,part,domain,number" doc:"How a term must stand in a cell; as the whole cell unless given."`
	OlderThan int               `json:"olderThan,omitempty" minimum:"0" maximum:"3650" doc:"Days: results older than that."`

	ActiveWithin int               `json:"activeWithin,omitempty" minimum:"0" maximum:"3650" doc:"Days: something was seen of the address within them."`
	InactiveFor  int               `json:"inactiveFor,omitempty" minimum:"0" maximum:"3650" doc:"Days: nothing was seen of the address for so long, or ever."`
	OpinionOf    string            `json:"opinionOf,omitempty" maxLength:"60" doc:"Another check, whose results stand in a column of the list."`
	Opinions     []finding.Finding `json:"opinions,omitempty" maxItems:"4" doc:"What that check found: one of these findings."`
}

// Factor is one thing that the odds were made of.
type Factor struct {
	What  string  `json:"what" doc:"What was taken into account, in words."`
	Times float64 `json:"times" doc:"What it multiplies the odds by; the first factor is what they begin with."`
	Basis string  `json:"basis" doc:"What the figure rests on, in words."`
}

// CauseInfo is a cause with its words.
type CauseInfo struct {
	Code     finding.Cause     `json:"code" doc:"The cause, as stage.what."`
	Stage    finding.Stage     `json:"stage" doc:"The furthest stage that spoke."`
	Title    string            `json:"title" doc:"A short title."`
	Meaning  string            `json:"meaning" doc:"What it means, in a sentence."`
	Advice   string            `json:"advice" doc:"What to do, in a sentence."`
	Findings []finding.Finding `json:"findings" doc:"The findings it may go with."`
	AskAgain bool              `json:"askAgain" doc:"Whether asking again may bring another answer."`
}

// TraitInfo is a trait with its words.
type TraitInfo struct {
	Code    finding.Trait `json:"code" doc:"The trait."`
	Title   string        `json:"title" doc:"A short title."`
	Many    string        `json:"many" doc:"What several of them are called."`
	Meaning string        `json:"meaning" doc:"What it is and how it was recognised."`
	Harmful bool          `json:"harmful" doc:"Whether the default policy leaves such rows out."`
}

// Check is one thing that was tested about a part of outbound.
type Check struct {
	Grade outbound.Grade `json:"grade" enum:"good,reservation,bad" doc:"How it came out."`
	Says  string         `json:"says" doc:"What was found, in a sentence."`
	Do    string         `json:"do,omitempty" doc:"What to do about it; left out when all is well."`
}

// Readiness is whether runs can begin, by all tests of outbound.
type Readiness struct {
	State outbound.State `json:"state" enum:"untested,ready,ready with reservations,not ready" doc:"The readiness of outbound."`
	Says  string         `json:"says" doc:"The readiness in a sentence, with the effect to expect."`
	Next  string         `json:"next,omitempty" doc:"The one thing to do next; left out when there is nothing."`
}

// Health is how a resolver has done since the service started.
type Health struct {
	Server       string    `json:"server" doc:"The resolver, as address:port."`
	Asked        int64     `json:"asked" doc:"Queries sent to it."`
	Failed       int64     `json:"failed" doc:"Queries it did not answer."`
	MeanMS       float64   `json:"meanMs" doc:"Mean time of an answer, in milliseconds."`
	Contradicted int64     `json:"contradicted,omitempty" doc:"Names that it said do not exist and another resolver found."`
	Hidden       string    `json:"hidden,omitempty" doc:"The last of these names."`
	Says         string    `json:"says,omitempty" doc:"What is wrong with it, in a sentence."`
	RestUntil    time.Time `json:"restUntil,omitzero" doc:"Until when it is left alone because it did not answer."`
}

// Rule says how the addresses it matches are asked. What it leaves empty stays as it is for
// all.
type Rule struct {
	Of       rule.Of `json:"of" enum:"domain,operator,address" doc:"What the pattern is held against."`
	Pattern  string  `json:"pattern" minLength:"1" maxLength:"254" doc:"A name; * stands for any text."`
	Depth    string  `json:"depth,omitempty" enum:"never,domain,syntax" doc:"never: not asked, though form and domain are still checked."`
	Lanes    int     `json:"lanes,omitempty" minimum:"0" maximum:"20" doc:"The most sessions at a time; 0 for the usual."`
	Rest     int     `json:"rest,omitempty" minimum:"0" maximum:"3600" doc:"Seconds of rest after each parcel of up to 600 addresses."`
	Route    string  `json:"route,omitempty" doc:"The name of the route to use."`
	Identity string  `json:"identity,omitempty" doc:"The name of the identity to use."`
	Hours    string  `json:"hours,omitempty" doc:"When they may be asked, such as 22:00-06:00."`
	Zone     string  `json:"zone,omitempty" doc:"The time zone of the hours, such as Europe/Berlin; UTC unless given."`
	Note     string  `json:"note,omitempty" maxLength:"500" doc:"Why the rule is there."`
}

// Domain is what DNS says of a domain.
type Domain struct {
	Name       string          `json:"name" doc:"The domain."`
	Outcome    resolve.Outcome `json:"outcome" doc:"Whether it takes mail, as far as DNS says."`
	Exchangers []Exchanger     `json:"exchangers,omitempty" doc:"Its exchangers in the order in which they are tried."`
	Answers    []Answer        `json:"answers,omitempty" doc:"The queries and what was answered."`
	At         time.Time       `json:"at" doc:"When it was looked up."`
	Expires    time.Time       `json:"expires" doc:"When the shortest-lived of the answers runs out."`
}

// Exchanger is one mail exchanger of a domain.
type Exchanger struct {
	Host       string       `json:"host" doc:"Its name."`
	Preference uint16       `json:"preference" doc:"The preference of its MX record; the lowest is tried first."`
	Addrs      []netip.Addr `json:"addrs,omitempty" doc:"Its addresses."`
	Unusable   []netip.Addr `json:"unusable,omitempty" doc:"Addresses that are never contacted: loopback, private, link-local and the like."`
}

// Answer is the outcome of one query.
type Answer struct {
	Name    string         `json:"name" doc:"The name asked about."`
	Type    string         `json:"type" doc:"The type of record asked for, such as MX."`
	Status  resolve.Status `json:"status" doc:"found, empty, absent or failed."`
	MX      []MX           `json:"mx,omitempty" doc:"MX records."`
	Addrs   []netip.Addr   `json:"addrs,omitempty" doc:"A and AAAA records."`
	Texts   []string       `json:"texts,omitempty" doc:"Texts of TXT records, names of PTR records."`
	Server  string         `json:"server,omitempty" doc:"The resolver that answered."`
	Problem string         `json:"problem,omitempty" doc:"Why there is no usable answer."`
	TookMS  float64        `json:"tookMs" doc:"How long the answer took, in milliseconds."`
	At      time.Time      `json:"at" doc:"When it was asked."`
	Expires time.Time      `json:"expires" doc:"When the answer runs out."`
}

// MX is one MX record.
type MX struct {
	Host       string `json:"host" doc:"The exchanger; empty for a null MX (RFC 7505)."`
	Preference uint16 `json:"preference" doc:"The lowest is tried first."`
}

// Acceptance is what one exchanger of a domain, asked by one route, did with made-up
// mailboxes of that domain.
type Acceptance struct {
	Domain        string        `json:"domain" doc:"The domain."`
	Exchanger     string        `json:"exchanger" doc:"The exchanger that was asked."`
	Route         int64         `json:"route,omitempty" doc:"The route by which it was asked."`
	Accepts       probe.Accepts `json:"accepts" doc:"What it does with made-up mailboxes: known, any, mixed or unknown."`
	At            time.Time     `json:"at" doc:"When it did so last."`
	MadeUp        []MadeUp      `json:"madeUp,omitempty" doc:"The made-up mailboxes, with its answers."`
	Refused       int           `json:"refused,omitempty" doc:"How many made-up mailboxes it has refused in a row."`
	TookNone      int           `json:"tookNone,omitempty" doc:"How many listed mailboxes it has refused since it last accepted one."`
	ListedTaken   int           `json:"listedTaken,omitempty" doc:"How many times it has accepted a listed mailbox."`
	ListedRefused int           `json:"listedRefused,omitempty" doc:"How many times it has refused a listed mailbox."`
	PutOff        []string      `json:"putOff,omitempty" doc:"The made-up mailboxes that it put off as strangers (greylisting)."`
}

// Answered returns the made-up mailboxes whose replies say whether the host takes them.
func (a *Acceptance) Answered() (answered []MadeUp) {
	for _, m := range a.MadeUp {
		if strings.HasPrefix(m.Reply, "2") || strings.HasPrefix(m.Reply, "5") {
			answered = append(answered, m)
		}
	}
	return answered
}

// MadeUp is one made-up mailbox and what the host said of it.
type MadeUp struct {
	Mailbox      string `json:"mailbox" doc:"The mailbox."`
	Reply        string `json:"reply,omitempty" doc:"The reply, word for word."`
	Conversation int    `json:"conversation" doc:"The session in which it was asked about, by its place among those of the parcel."`
}

// Conversation is the record of one session, without the questions about mailboxes.
type Conversation struct {
	Exchanger string    `json:"exchanger" doc:"The exchanger's name."`
	Addr      string    `json:"addr" doc:"Its address."`
	Identity  Identity  `json:"identity" doc:"Who asked."`
	Route     string    `json:"route,omitempty" doc:"The name of the route; left out for the only one there is."`
	At        time.Time `json:"at" doc:"When it began."`
	Encrypted bool      `json:"encrypted,omitempty" doc:"Whether it was encrypted (STARTTLS)."`
	Lines     []Line    `json:"lines,omitempty" doc:"What both sides said."`
	Ended     string    `json:"ended,omitempty" doc:"Why it ended early; left out when all was asked."`
}

// Identity is who asks.
type Identity struct {
	Name   string `json:"name" doc:"The EHLO name."`
	Sender string `json:"sender" doc:"The sender of MAIL FROM; empty for the null sender."`
}

// Line is one line of a session.
type Line struct {
	AtMS float64 `json:"atMs" doc:"When it was said, in milliseconds since the connection was opened."`
	Host bool    `json:"host" doc:"Whether the host said it; otherwise we did."`
	Text string  `json:"text" doc:"The line."`
}

// Each converts what a slice holds into another type of the same meaning; nil becomes an
// empty slice, which JSON writes as [].
func Each[A, B any](in []A, convert func(A) B) []B {
	out := make([]B, len(in))
	for i, v := range in {
		out[i] = convert(v)
	}
	return out
}

// Counts returns counts as the API shows them.
func Counts(counts []policy.Count) []Count {
	return Each(counts, func(c policy.Count) Count { return Count(c) })
}

// PolicyOf returns a policy as the API shows it.
func PolicyOf(p policy.Policy) Policy {
	return Policy{p.Name, p.Version, p.For, Each(p.Rules, func(r policy.Rule) PolicyRule { return PolicyRule(r) }), p.Otherwise}
}

// Core returns the policy that decides.
func (p Policy) Core() policy.Policy {
	return policy.Policy{Name: p.Name, Version: p.Version, For: p.For, Rules: Each(p.Rules, func(r PolicyRule) policy.Rule { return policy.Rule(r) }), Otherwise: p.Otherwise}
}

// Checks returns checks as the API shows them.
func Checks(checks []outbound.Check) []Check {
	return Each(checks, func(c outbound.Check) Check { return Check(c) })
}

// HealthOf returns how a resolver has done as the API shows it.
func HealthOf(h resolve.Health) Health {
	return Health{h.Server, h.Asked, h.Failed, h.MeanMS, h.Contradicted, h.Hidden, h.Says, h.RestUntil}
}

// DomainOf returns what DNS says of a domain as the API shows it.
func DomainOf(d resolve.Domain) Domain {
	return Domain{d.Name, d.Outcome, Each(d.Exchangers, func(e resolve.Exchanger) Exchanger { return Exchanger(e) }), Each(d.Answers, answerOf), d.At, d.Expires}
}

func answerOf(a resolve.Answer) Answer {
	return Answer{a.Name, a.Type, a.Status, Each(a.MX, func(m resolve.MX) MX { return MX(m) }), a.Addrs, a.Texts, a.Server, a.Problem, a.TookMS, a.At, a.Expires}
}

// AcceptanceOf returns what an exchanger did with made-up mailboxes as the API shows it.
func AcceptanceOf(a probe.Acceptance) Acceptance {
	return Acceptance{a.Domain, a.Exchanger, a.Route, a.Accepts, a.At, Each(a.MadeUp, func(m probe.MadeUp) MadeUp { return MadeUp(m) }),
		a.Refused, a.TookNone, a.ListedTaken, a.ListedRefused, a.PutOff}
}

// ConversationOf returns the record of a session as the API shows it.
func ConversationOf(c probe.Conversation) Conversation {
	return Conversation{c.Exchanger, c.Addr, Identity(c.Identity), c.Route, c.At, c.Encrypted, Each(c.Lines, func(l smtp.Line) Line { return Line(l) }), c.Ended}
}
