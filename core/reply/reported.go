package reply

import (
	"varnet/core/finding"
	"varnet/core/phrase"
	"varnet/core/smtp"
)

// Content is what only a reply about a message can be about: what it says, carries or
// weighs. No reply to RCPT TO is.
const Content About = "content"

// Reported is a reply as a notice tells of it, or what the host that sends the notice
// says of its own.
type Reported struct {
	// Reply is what was answered. Its code is from the words, from the status of the
	// report (RFC 3464 section 2.3.4), or 550 where there is neither.
	Reply smtp.Reply
	// Heard reports that the words are a reply of the next host; otherwise they are those
	// of the host that gave up, which speaks of its own attempts.
	Heard bool
	// Data reports that the reply came to the message, not to the recipient.
	Data bool
}

// ReadReported returns what a reply that a notice tells of means. What a sending host
// reports of its own attempts is held against reportRules first: names that DNS does not
// know, hosts that do not answer, a queue's patience that ended, a message that was not
// wanted. Everything else is read as Read reads it.
func ReadReported(r Reported, q Question) Meaning {
	t := clean(r.Reply.Text(), q)
	for i := range reportRules {
		if rule := &reportRules[i]; !(rule.own && r.Heard) && rule.fits(r.Reply, t) {
			return rule.Meaning
		}
	}
	m := read(r.Reply, t)
	if r.Data && m.About == Us && m.Effect == Refused {
		m.About = Content
	}
	return m
}

// reportRule is a rule of reportRules; own reports that it is for what the host that gives
// up says itself, not for replies it has heard.
type reportRule struct {
	own bool
	rule
}

// reportRules are held against what a notice reports, in this order, before rules are.
var reportRules = []reportRule{
	{false, rule{codes: []int{4, 5}, enhanced: []string{"2.2"}, words: full,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxFull, "RFC 3463 x.2.2, and the words say so too: the mailbox is full, whatever else the host has seen."},
		example: "452 4.2.2 mailbox full, retry timeout exceeded"}},
	{false, rule{codes: []int{4, 5}, enhanced: []string{"2.3", "3.4"}, without: full,
		Meaning: Meaning{Content, Refused, finding.MailboxUnclear, "RFC 3463 x.2.3 and x.3.4: the message is too large."},
		example: "552 5.2.3 too much"}},
	{false, rule{codes: []int{4, 5}, words: size, without: full.And(absent),
		Meaning: Meaning{Content, Refused, finding.MailboxUnclear, "The message is larger than the host takes."},
		example: "552 message size exceeds fixed maximum"}},
	{false, rule{codes: []int{5}, words: content, without: phrase.Of("#ip#", "_ip_", "your server", "your host", "dmarc", "_spf_").And(absent),
		Meaning: Meaning{Content, Refused, finding.ExchangerBlocksUs, "The message was not wanted for what it says or carries."},
		example: "550 high probability of spam"}},
	{false, rule{codes: []int{4, 5}, enhanced: []string{"6."},
		Meaning: Meaning{Content, Refused, finding.MailboxUnclear, "RFC 3463 x.6: the message cannot be carried in its form."},
		example: "550 5.6.1 media not supported"}},

	{false, rule{codes: []int{4}, words: absent, without: greylist.And(full, unresolved, phrase.Of("try again in", "temporarily")),
		Meaning: Meaning{Mailbox, Refused, finding.MailboxUnclear, "A 4xx that carries a definite no, and no host tries any more."},
		example: "450 4.1.1 user unknown, still looking it up"}},

	{false, rule{codes: []int{4, 5}, words: phrase.Of("points to local host", "points back", "loops back", "mail loop", "forwarding loop", "routing loop", "too many hops", "hop count"),
		Meaning: Meaning{Moment, Postponed, finding.ExchangerUnavailable, "Mail for the address or its domain goes round in a circle."},
		example: "550 lowest numbered MX record points to local host"}},

	{false, rule{codes: []int{4}, words: noSuchHost,
		Meaning: Meaning{Moment, Postponed, finding.DomainUnresolved, "DNS gave the sending host no answer, as its own code says."},
		example: "450 4.4.3 name service error for seedhouse.example"}},
	{false, rule{codes: []int{5}, words: noSuchHost, without: phrase.Of("timed out", "try again", "temporar"),
		Meaning: Meaning{Domain, Refused, finding.DomainAbsent, "The sending host did not find the domain in DNS, as its own code says."},
		example: "550 5.1.2 host unknown (name server: seedhouse.example: host not found)"}},
	{false, rule{codes: []int{4, 5}, words: phrase.Of("unable to connect to", "could not connect to", "failed to connect to", "no route to host"),
		Meaning: Meaning{Moment, Postponed, finding.ExchangerUnreachable, "The sending host reached no mail host of the domain, as its own code says."},
		example: "503 unable to connect to remote host"}},
	{false, rule{codes: []int{4, 5}, enhanced: []string{"4.310"},
		Meaning: Meaning{Domain, Refused, finding.DomainAbsent, "Hosted mail says so of a domain that DNS does not have."},
		example: "550 5.4.310 gone"}},
	{false, rule{codes: []int{4, 5}, enhanced: []string{"4.312"},
		Meaning: Meaning{Moment, Postponed, finding.DomainUnresolved, "Hosted mail says so when DNS gives no answer."},
		example: "450 4.4.312 no answer"}},
	{false, rule{codes: []int{4, 5}, enhanced: []string{"4.300", "4.316"}, without: full.And(absentButDomain),
		Meaning: Meaning{Moment, Postponed, finding.ExchangerUnreachable, "Hosted mail says so when no connection could be made in time."},
		example: "550 5.4.300 gone stale"}},

	// ---- what the host that gave up says of its own attempts
	{true, rule{codes: []int{4, 5}, words: phrase.Of("nullmx", "null mx", "no smtp service", "domain…does not accept mail"),
		Meaning: Meaning{Domain, Refused, finding.DomainNoMail, "RFC 7505: the domain says that it takes no mail."},
		example: "550 domain seedhouse.example does not accept mail (nullMX)"}},
	{true, rule{codes: []int{4}, words: unresolved,
		Meaning: Meaning{Moment, Postponed, finding.DomainUnresolved, "DNS gave the sending host no answer."},
		example: "450 dns lookup of seedhouse.example gave nothing, try again"}},
	{true, rule{codes: []int{5}, words: unresolved, without: phrase.Of("timed out", "try again", "temporar"),
		Meaning: Meaning{Domain, Refused, finding.DomainAbsent, "The sending host did not find the domain in DNS."},
		example: "550 nxdomain"}},
	{true, rule{codes: []int{5}, words: phrase.Of("no route found"),
		Meaning: Meaning{Domain, Refused, finding.DomainNoExchanger, "The sending host knows no way to the domain."},
		example: "550 no route found to domain seedhouse.example"}},
	{true, rule{codes: []int{5}, enhanced: []string{"1.2"}, without: full,
		Meaning: Meaning{Domain, Refused, finding.DomainAbsent, "RFC 3463 x.1.2: a bad destination system."},
		example: "550 5.1.2 bad destination"}},
	{true, rule{codes: []int{5}, enhanced: []string{"4.4"}, without: absent,
		Meaning: Meaning{Domain, Refused, finding.DomainNoExchanger, "RFC 3463 x.4.4: there is no way to the domain."},
		example: "550 5.4.4 unable to route"}},
	{true, rule{codes: []int{4, 5}, words: encryption,
		Meaning: Meaning{Us, Refused, finding.ExchangerNeedsTLS, "The two hosts could not agree on encryption."},
		example: "450 4.7.5 server certificate not trusted, encryption needed"}},
	{true, rule{codes: []int{4, 5}, words: unreachable, without: full.And(absentButDomain),
		Meaning: Meaning{Moment, Postponed, finding.ExchangerUnreachable, "The sending host reached no mail host of the domain."},
		example: "550 connection timed out"}},
	{true, rule{codes: []int{4, 5}, words: expired, without: phrase.Of("account", "mailbox", "user", "greylist").And(full, absent),
		Meaning: Meaning{Moment, Postponed, finding.ExchangerUnreachable, "The sending host has given up after its time of trying."},
		example: "550 message expired"}},
	{false, rule{codes: []int{4, 5}, enhanced: []string{"4.1", "4.2", "4.7"}, without: phrase.Of("recipient address rejected", markPrefix, "greylist").And(full, absent),
		Meaning: Meaning{Moment, Postponed, finding.ExchangerUnreachable, "RFC 3463 x.4.1, x.4.2 and x.4.7: no answer, a bad connection, or time ran out."},
		example: "550 5.4.7 gone stale"}},
	{false, rule{codes: []int{4}, enhanced: []string{"4.3", "4.4"},
		Meaning: Meaning{Moment, Postponed, finding.DomainUnresolved, "RFC 3463 x.4.3 and x.4.4: the directory gave no way."},
		example: "450 4.4.3 directory down"}},
}

// noSuchHost is what only a host says that looked for the next one itself.
var noSuchHost = phrase.Of("host unknown (", "name service error", "host or domain name not found", "unrouteable mail domain")

var (
	unresolved  = load("unresolved")
	unreachable = load("unreachable")
	expired     = load("expired")
	content     = load("content")
	size        = load("size")
)
