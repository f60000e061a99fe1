package pack

import (
	"net/netip"
	"time"

	"varnet/core/event"
	"varnet/core/finding"
	"varnet/core/outbound"
	"varnet/core/pace"
	"varnet/core/policy"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/route"
	"varnet/core/rule"
	"varnet/core/sheet"
	"varnet/core/smtp"
)

// The JSON forms of what the core knows. A field that the core renames keeps its name
// here; one that is added is "omitempty", since older records have none.

var _ = keep(func(d sheet.Dialect) dialect { return dialect(d) }, func(k dialect) sheet.Dialect { return sheet.Dialect(k) })

type dialect struct {
	Delimiter string `json:"delimiter"`
	Quote     string `json:"quote"`
	Encoding  string `json:"encoding"`
	Header    bool   `json:"header"`
}

var _ = keep(func(c sheet.Kind) kind { return kind(c) }, func(k kind) sheet.Kind { return sheet.Kind(k) })

type kind struct {
	Type   sheet.Type `json:"type"`
	Layout string     `json:"layout,omitempty"`
}

var _ = keep(func(p pace.Pace) paceForm { return paceForm(p) }, func(k paceForm) pace.Pace { return pace.Pace(k) })

type paceForm struct {
	Lanes        int       `json:"lanes"`
	Calm         int       `json:"calm"`
	Complaints   int       `json:"complaints"`
	RestUntil    time.Time `json:"restUntil,omitzero"`
	Ceiling      int       `json:"ceiling,omitempty"`
	CeilingUntil time.Time `json:"ceilingUntil,omitzero"`
	Questions    int       `json:"questions,omitempty"`
	Proven       int       `json:"proven,omitempty"`
	Takes        bool      `json:"takes,omitempty"`
	Longest      int       `json:"longest,omitempty"`
}

var _ = keep(func(r rule.Rule) ruleForm { return ruleForm(r) }, func(k ruleForm) rule.Rule { return rule.Rule(k) })

type ruleForm struct {
	Of       rule.Of `json:"of"`
	Pattern  string  `json:"pattern"`
	Depth    string  `json:"depth,omitempty"`
	Lanes    int     `json:"lanes,omitempty"`
	Rest     int     `json:"rest,omitempty"`
	Route    string  `json:"route,omitempty"`
	Identity string  `json:"identity,omitempty"`
	Hours    string  `json:"hours,omitempty"`
	Zone     string  `json:"zone,omitempty"`
	Note     string  `json:"note,omitempty"`
}

var _ = keep(func(p policy.Policy) policyForm {
	return policyForm{p.Name, p.Version, p.For, each(p.Rules, func(r policy.Rule) policyRule { return policyRule(r) }), p.Otherwise}
}, func(k policyForm) policy.Policy {
	return policy.Policy{Name: k.Name, Version: k.Version, For: k.For, Rules: each(k.Rules, func(r policyRule) policy.Rule { return policy.Rule(r) }), Otherwise: k.Otherwise}
})

type policyForm struct {
	Name      string          `json:"name"`
	Version   int             `json:"version,omitempty"`
	For       string          `json:"for,omitempty"`
	Rules     []policyRule    `json:"rules"`
	Otherwise policy.Decision `json:"otherwise,omitempty"`
}

type policyRule struct {
	Do        policy.Decision   `json:"do"`
	Findings  []finding.Finding `json:"findings,omitempty"`
	Causes    []finding.Cause   `json:"causes,omitempty"`
	Traits    []finding.Trait   `json:"traits,omitempty"`
	OddsFrom  float64           `json:"oddsFrom,omitempty"`
	OddsBelow float64           `json:"oddsBelow,omitempty"`
	Domains   []string          `json:"domains,omitempty"`
	Operators []string          `json:"operators,omitempty"`
	Column    string            `json:"column,omitempty"`
	Values    []string          `json:"values,omitempty"`
	TermLists []string          `json:"termLists,omitempty"`
	How       string            `json:"how,omitempty"`
	OlderThan int               `json:"olderThan,omitempty"`

	ActiveWithin int               `json:"activeWithin,omitempty"`
	InactiveFor  int               `json:"inactiveFor,omitempty"`
	OpinionOf    string            `json:"opinionOf,omitempty"`
	Opinions     []finding.Finding `json:"opinions,omitempty"`
}

var _ = keep(func(d event.Data) eventData { return eventData(d) }, func(k eventData) event.Data { return event.Data(k) })

type eventData struct {
	ListID       int64      `json:"listId,omitempty"`
	List         string     `json:"list,omitempty"`
	RunID        int64      `json:"runId,omitempty"`
	RoutineID    int64      `json:"routineId,omitempty"`
	Routine      string     `json:"routine,omitempty"`
	WebhookID    int64      `json:"webhookId,omitempty"`
	ConnectionID int64      `json:"connectionId,omitempty"`
	Connection   string     `json:"connection,omitempty"`
	WriteBackID  int64      `json:"writeBackId,omitempty"`
	MailingID    int64      `json:"mailingId,omitempty"`
	Mailing      string     `json:"mailing,omitempty"`
	Webhook      string     `json:"webhook,omitempty"`
	File         string     `json:"file,omitempty"`
	Key          string     `json:"key,omitempty"`
	Route        string     `json:"route,omitempty"`
	Person       string     `json:"person,omitempty"`
	Role         string     `json:"role,omitempty"`
	Device       string     `json:"device,omitempty"`
	Words        string     `json:"words,omitempty"`
	Until        *time.Time `json:"until,omitempty"`
}

var _ = keep(func(o outbound.Outcome) outcome {
	return outcome{each(o.Checks, func(c outbound.Check) check { return check(c) }), o.TookMS, o.Public}
}, func(k outcome) outbound.Outcome {
	return outbound.Outcome{Checks: each(k.Checks, func(c check) outbound.Check { return outbound.Check(c) }), TookMS: k.TookMS, Public: k.Public}
})

type outcome struct {
	Checks []check `json:"checks"`
	TookMS float64 `json:"tookMs,omitempty"`
	Public string  `json:"public,omitempty"`
}

type check struct {
	Grade outbound.Grade `json:"grade"`
	Says  string         `json:"says"`
	Do    string         `json:"do,omitempty"`
}

// PartSpec is what a part of outbound is made of, less what is confidential: the JSON of
// an identity or of a route.
type PartSpec struct {
	Identity *identity  `json:"identity,omitempty"`
	Route    *routeForm `json:"route,omitempty"`
}

type identity struct {
	Name   string `json:"name"`
	Sender string `json:"sender"`
}

type routeForm struct {
	Kind        route.Kind `json:"kind"`
	Host        string     `json:"host,omitempty"`
	User        string     `json:"user,omitempty"`
	Local       netip.Addr `json:"local,omitzero"`
	Certificate string     `json:"certificate,omitempty"`
	Public      netip.Addr `json:"public,omitzero"`
	Helo        string     `json:"helo,omitempty"`
	Secret      string     `json:"-"`
	Location    string     `json:"location,omitempty"`
}

// SpecOf returns what a part is made of.
func SpecOf(p outbound.Part) (k PartSpec) {
	switch p.Kind {
	case outbound.Identity:
		k.Identity = (*identity)(&p.Identity)
	case outbound.Route:
		r := routeForm(p.Route)
		r.Secret = ""
		k.Route = &r
	}
	return k
}

// Part returns the part of that kind and name.
func (k PartSpec) Part(kind outbound.Kind, name string) outbound.Part {
	p := outbound.Part{Kind: kind, Name: name}
	if k.Identity != nil {
		p.Identity = smtp.Identity(*k.Identity)
	}
	if k.Route != nil {
		p.Route = route.Route(*k.Route)
	}
	return p
}

var _ = keep(func(d resolve.Domain) domain {
	return domain{d.Name, d.Outcome, each(d.Exchangers, func(e resolve.Exchanger) exchanger { return exchanger(e) }), each(d.Answers, keptAnswer), d.At, d.Expires}
}, func(k domain) resolve.Domain {
	return resolve.Domain{Name: k.Name, Outcome: k.Outcome, At: k.At, Expires: k.Expires,
		Exchangers: each(k.Exchangers, func(e exchanger) resolve.Exchanger { return resolve.Exchanger(e) }), Answers: each(k.Answers, coreAnswer)}
})

type domain struct {
	Name       string          `json:"name"`
	Outcome    resolve.Outcome `json:"outcome"`
	Exchangers []exchanger     `json:"exchangers,omitempty"`
	Answers    []answer        `json:"answers,omitempty"`
	At         time.Time       `json:"at"`
	Expires    time.Time       `json:"expires"`
}

type exchanger struct {
	Host       string       `json:"host"`
	Preference uint16       `json:"preference"`
	Addrs      []netip.Addr `json:"addrs,omitempty"`
	Unusable   []netip.Addr `json:"unusable,omitempty"`
}

type answer struct {
	Name    string         `json:"name"`
	Type    string         `json:"type"`
	Status  resolve.Status `json:"status"`
	MX      []mx           `json:"mx,omitempty"`
	Addrs   []netip.Addr   `json:"addrs,omitempty"`
	Texts   []string       `json:"texts,omitempty"`
	Server  string         `json:"server,omitempty"`
	Problem string         `json:"problem,omitempty"`
	TookMS  float64        `json:"tookMs"`
	At      time.Time      `json:"at"`
	Expires time.Time      `json:"expires"`
}

type mx struct {
	Host       string `json:"host"`
	Preference uint16 `json:"preference"`
}

func keptAnswer(a resolve.Answer) answer {
	return answer{a.Name, a.Type, a.Status, each(a.MX, func(m resolve.MX) mx { return mx(m) }), a.Addrs, a.Texts, a.Server, a.Problem, a.TookMS, a.At, a.Expires}
}

func coreAnswer(k answer) resolve.Answer {
	return resolve.Answer{Name: k.Name, Type: k.Type, Status: k.Status, MX: each(k.MX, func(m mx) resolve.MX { return resolve.MX(m) }), Addrs: k.Addrs,
		Texts: k.Texts, Server: k.Server, Problem: k.Problem, TookMS: k.TookMS, At: k.At, Expires: k.Expires}
}

var _ = keep(keptAcceptance, coreAcceptance)

type acceptance struct {
	Domain        string        `json:"domain"`
	Exchanger     string        `json:"exchanger"`
	Route         int64         `json:"route,omitempty"`
	Accepts       probe.Accepts `json:"accepts"`
	At            time.Time     `json:"at"`
	MadeUp        []madeUp      `json:"madeUp,omitempty"`
	Refused       int           `json:"refused,omitempty"`
	TookNone      int           `json:"tookNone,omitempty"`
	ListedTaken   int           `json:"listedTaken,omitempty"`
	ListedRefused int           `json:"listedRefused,omitempty"`
	PutOff        []string      `json:"putOff,omitempty"`
}

type madeUp struct {
	Mailbox      string `json:"mailbox"`
	Reply        string `json:"reply,omitempty"`
	Conversation int    `json:"conversation"`
}

func keptAcceptance(a probe.Acceptance) acceptance {
	return acceptance{a.Domain, a.Exchanger, a.Route, a.Accepts, a.At, each(a.MadeUp, func(m probe.MadeUp) madeUp { return madeUp(m) }),
		a.Refused, a.TookNone, a.ListedTaken, a.ListedRefused, a.PutOff}
}

func coreAcceptance(k acceptance) probe.Acceptance {
	return probe.Acceptance{Domain: k.Domain, Exchanger: k.Exchanger, Route: k.Route, Accepts: k.Accepts, At: k.At,
		MadeUp:  each(k.MadeUp, func(m madeUp) probe.MadeUp { return probe.MadeUp(m) }),
		Refused: k.Refused, TookNone: k.TookNone, ListedTaken: k.ListedTaken, ListedRefused: k.ListedRefused, PutOff: k.PutOff}
}

// ParcelRecord is what is kept of a parcel beside its results.
type ParcelRecord struct {
	Conversations []probe.Conversation
	Acceptances   []probe.Acceptance
}

// Acceptance returns what was learnt of the exchanger that spoke in a conversation about
// mailboxes of the domain; nil for nothing.
func (r ParcelRecord) Acceptance(domain string, conversation int) *probe.Acceptance {
	if conversation < 0 || conversation >= len(r.Conversations) {
		return nil
	}
	for i, a := range r.Acceptances {
		if a.Domain == domain && a.Exchanger == r.Conversations[conversation].Exchanger {
			return &r.Acceptances[i]
		}
	}
	return nil
}

var _ = keep(func(r ParcelRecord) record {
	return record{each(r.Conversations, keptConversation), each(r.Acceptances, keptAcceptance)}
}, func(k record) ParcelRecord {
	return ParcelRecord{each(k.Conversations, coreConversation), each(k.Acceptances, coreAcceptance)}
})

type record struct {
	Conversations []conversation `json:"conversations"`
	Acceptances   []acceptance   `json:"acceptances"`
}

type conversation struct {
	Exchanger string    `json:"exchanger"`
	Addr      string    `json:"addr"`
	Identity  identity  `json:"identity"`
	Route     string    `json:"route,omitempty"`
	At        time.Time `json:"at"`
	Encrypted bool      `json:"encrypted,omitempty"`
	Lines     []line    `json:"lines,omitempty"`
	Ended     string    `json:"ended,omitempty"`
}

type line struct {
	AtMS float64 `json:"atMs"`
	Host bool    `json:"host"`
	Text string  `json:"text"`
}

func keptConversation(c probe.Conversation) conversation {
	return conversation{c.Exchanger, c.Addr, identity(c.Identity), c.Route, c.At, c.Encrypted, each(c.Lines, func(l smtp.Line) line { return line(l) }), c.Ended}
}

func coreConversation(k conversation) probe.Conversation {
	return probe.Conversation{Exchanger: k.Exchanger, Addr: k.Addr, Identity: smtp.Identity(k.Identity), Route: k.Route, At: k.At, Encrypted: k.Encrypted,
		Lines: each(k.Lines, func(l line) smtp.Line { return smtp.Line(l) }), Ended: k.Ended}
}
