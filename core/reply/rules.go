package reply

import (
	"varnet/core/finding"
	"varnet/core/phrase"
)

// rules are held against a reply from top to bottom; the first that fits gives the
// meaning. The order is the order of trust: what the text plainly says of us goes
// before every code, since hosts give a refusal of the client the codes of a refusal
// of the mailbox; then what it says of the mailbox; then the enhanced code; then the
// basic code alone.
var rules = []rule{
	// ---- 2xx
	{codes: []int{250, 251}, words: phrase.Of("unknown user", "user unknown", "no such user", "not exist", "unknown recipient", "recipient unknown"),
		Meaning: Meaning{Mailbox, Unclear, finding.MailboxUnclear, "It takes the mail and says in the same breath that there is no such user."},
		example: "250 2.1.5 ok, queued for unknown user"},
	{codes: []int{252},
		Meaning: Meaning{Mailbox, Unclear, finding.MailboxUnclear, "RFC 5321 section 3.5.3: the host will try, but has not looked."},
		example: "252 2.0.0 cannot verify, but will take the message"},
	{codes: []int{2},
		Meaning: Meaning{Mailbox, Accepted, finding.MailboxAccepted, "The host takes mail for this mailbox."},
		example: "250 2.1.5 ok"},

	// ---- what the text says of us, whatever the code
	{codes: []int{4, 5}, words: phrase.Of("tls not available", "tls is not available", "tls currently unavailable"),
		Meaning: Meaning{Moment, Postponed, finding.ExchangerUnavailable, "RFC 3207 section 4: the host cannot encrypt at the moment."},
		example: "454 4.3.0 TLS not available due to local problem"},
	{codes: []int{4, 5}, enhanced: []string{"7.10", "7.11"}, without: sender,
		Meaning: Meaning{Us, Refused, finding.ExchangerNeedsTLS, "RFC 5248: encryption needed."},
		example: "450 4.7.10 not like this"},
	{codes: []int{4, 5}, words: encryption,
		Meaning: Meaning{Us, Refused, finding.ExchangerNeedsTLS, "RFC 3207: the host requires encryption first."},
		example: "530 5.7.0 must issue a STARTTLS command first"},
	{codes: []int{552, 452, 450, 550, 554, 422}, words: phrase.Of("user has too many messages", "too many messages on", "too many messages in", "mailbox…too many messages"),
		Meaning: Meaning{Mailbox, Refused, finding.MailboxFull, "The mailbox holds as many messages as it may."},
		example: "552 user has too many messages on the server"},
	{codes: []int{4, 5}, words: greylist, without: name,
		Meaning: Meaning{Moment, Postponed, finding.ExchangerPostponed, greylisting},
		example: "451 4.7.1 greylisted, try again in 300 seconds"},
	{codes: []int{5}, words: phrase.Of("too many hops", "mail loop", "loops back", "hop count"),
		Meaning: Meaning{Moment, Unclear, finding.ExchangerUnavailable, "The host's own forwarding goes round in a circle."},
		example: "554 5.4.6 too many hops, this is a loop"},
	{codes: []int{4}, words: throttle, without: phrase.Of("mailbox…full", "mailbox…exceed", "mailbox…over", "sender verify", "verify sender"),
		Meaning: Meaning{Us, Postponed, finding.ExchangerThrottles, "The host counts what we ask and has had enough for now."},
		example: "451 4.7.0 too many recipients from your address, slow down"},
	{codes: []int{5}, words: throttle, without: phrase.Of("invalid recipients of", "mailbox", "storage", "inbox", "postfach").And(full),
		Meaning: Meaning{Us, Postponed, finding.ExchangerThrottles, "The session has gone over a limit; it is not about this recipient."},
		example: "550 too many unknown users in this session"},
	{codes: []int{5}, enhanced: []string{"2.3", "3.4"},
		Meaning: Meaning{Moment, Unclear, finding.ExchangerUnavailable, "RFC 3463 x.2.3 and x.3.4: about the size of a message, which we never sent."},
		example: "552 5.2.3 message size exceeds the fixed maximum"},
	{codes: []int{5}, words: phrase.Of("relaying denied", "relay access denied", "unable to relay", "relaying not", "relay not"), without: listedHard,
		Meaning: Meaning{Domain, Unclear, finding.MailboxUnclear, wrongHost},
		example: "550 5.7.1 relaying denied. IP name lookup failed"},
	{codes: []int{4}, words: listed,
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "A refusal of the client, put mildly as a 4xx."},
		example: "450 4.7.1 your ip is on a blocklist"},
	{codes: []int{5}, words: listed, links: true,
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "The host refuses the client for its standing or its address."},
		example: "550 5.7.1 service unavailable; client host blocked using a blocklist"},
	{codes: []int{4, 5}, words: name, without: phrase.Of("unable to verify recipient"),
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "The host does not like the name we give, or our reverse name."},
		example: "550 5.7.1 <verify>: helo command rejected: host not found"},
	{codes: []int{4}, words: phrase.Of("sender verify", "sender verification", "verify sender", "verify the sender"),
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "The host could not satisfy itself about our sender."},
		example: "451 could not complete sender verify callout"},
	{codes: []int{4, 5}, words: sender, without: restricted,
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "A refusal of our sender; some hosts hold it back until the recipient is named."},
		example: "550 5.1.8 sender address rejected: domain not found"},
	{codes: []int{4, 5}, enhanced: []string{"1.7", "1.8", "7.8", "7.9", "7.23", "7.24", "7.25", "7.26", "7.27", "7.28", "7.29"},
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "RFC 3463, RFC 7372 and RFC 4954: the sender's address or its proofs are found wanting."},
		example: "550 5.7.25 no proof of who you are"},

	// ---- the wrong host
	{codes: []int{5}, words: relay, without: absentButDomain,
		Meaning: Meaning{Domain, Unclear, finding.MailboxUnclear, wrongHost},
		example: "554 5.7.1 we do not handle mail for that one"},
	{codes: []int{503, 530, 535, 538},
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "The session is not allowed to ask: it is about us."},
		example: "530 5.7.0 authentication required"},

	// ---- 4xx: the mailbox, the moment, or a policy
	{codes: []int{4}, enhanced: []string{"2.2"}, without: policyOrUs,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxFull, "RFC 3463 x.2.2: mailbox full."},
		example: "452 4.2.2 come back when it is empty"},
	{codes: []int{452, 450, 422, 451}, words: full, without: phrase.Of("disk space", "mail system full").And(policyOrUs),
		Meaning: Meaning{Mailbox, Refused, finding.MailboxFull, "The text says that the mailbox has no room left."},
		example: "452 the mailbox is full"},
	{codes: []int{4}, words: verifying,
		Meaning: Meaning{Moment, Postponed, finding.ExchangerPostponed, "The host is itself still looking the mailbox up."},
		example: "450 4.1.1 recipient address rejected: unverified address: address verification in progress"},
	{codes: []int{4}, words: disabled, without: phrase.Of("service…disabled", "feature", "command"),
		Meaning: Meaning{Mailbox, Postponed, finding.MailboxUnclear, "It hints at a mailbox that is switched off, but not for good."},
		example: "450 4.2.1 account is temporarily suspended"},
	{codes: []int{4}, enhanced: []string{"1.1", "1.0"}, without: phrase.Of("try again in", "retry in"),
		Meaning: Meaning{Mailbox, Postponed, finding.MailboxUnclear, "A cautious host gives an unknown user a 4xx; ask again, then weigh it."},
		example: "450 4.1.1 user unknown in local recipient table"},
	{codes: []int{450, 451, 454}, words: absent, without: phrase.Of("host not found", "service unavailable", "temporarily").And(later),
		Meaning: Meaning{Mailbox, Postponed, finding.MailboxUnclear, "A 4xx that carries a definite no: ask again, then weigh it."},
		example: "450 no such user here"},
	{codes: []int{450, 451}, enhanced: []string{"7.1", "7.0"},
		Meaning: Meaning{Moment, Postponed, finding.ExchangerPostponed, "Put off by policy without a reason given: as greylisting does."},
		example: "450 4.7.1 please come again"},
	{codes: []int{450, 451}, words: later, without: phrase.Of("local error", "system", "internal"),
		Meaning: Meaning{Moment, Postponed, finding.ExchangerPostponed, "It asks us to come back, as greylisting does."},
		example: "451 temporarily deferred"},
	{codes: []int{4},
		Meaning: Meaning{Moment, Postponed, finding.ExchangerUnavailable, "A 4xx of the host's own: the moment is bad (RFC 5321 section 4.2.1)."},
		example: "451 4.3.0 local error in processing"},

	// ---- 5xx about the mailbox, by what the text says
	{codes: []int{5}, enhanced: []string{"1.6"},
		Meaning: Meaning{Mailbox, Refused, finding.MailboxMoved, "RFC 3463 x.1.6: the mailbox has moved."},
		example: "551 5.1.6 recipient has moved"},
	{codes: []int{551}, words: moved,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxMoved, "RFC 5321 section 3.4: the person has another address now."},
		example: "551 user not local; please try elsewhere"},
	{codes: []int{5}, enhanced: []string{"2.2"}, without: policyOrUs,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxFull, "RFC 3463 x.2.2: mailbox full."},
		example: "552 5.2.2 no more"},
	{codes: []int{5}, words: full, without: policyOrUs,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxFull, "The text says that the mailbox has no room left."},
		example: "550 the mailbox is full"},
	{codes: []int{5}, words: restricted, without: phrase.Of("no such", "does not exist", "user unknown"),
		Meaning: Meaning{Mailbox, Refused, finding.MailboxRestricted, "The mailbox takes mail from chosen senders only."},
		example: "550 5.7.1 only accepts mail from internal senders"},
	{codes: []int{5}, words: phrase.Of("has moved", "moved permanently", "umgezogen", "verzogen", "nouvelle adresse", "please use"), without: phrase.Of("no longer", "spam"),
		Meaning: Meaning{Mailbox, Refused, finding.MailboxMoved, "The text says that the person has another address now."},
		example: "550 the user has moved"},
	{codes: []int{5}, enhanced: []string{"4.1"}, words: phrase.Of("recipient address rejected", markPrefix),
		Meaning: Meaning{Mailbox, Refused, finding.MailboxAbsent, "Hosted mail refuses a recipient that its directory does not hold at the edge, with x.4.1."},
		example: "550 5.4.1 [ada@seedhouse.example]: recipient address rejected: access denied"},
	{codes: []int{5}, words: disabled, without: phrase.Of("command", "service…disabled", "feature", "system not accepting").And(policyOrUs),
		Meaning: Meaning{Mailbox, Refused, finding.MailboxDisabled, "The text says that the mailbox is switched off."},
		example: "550 this account has been suspended"},
	{codes: []int{5}, enhanced: []string{"2.1"}, without: policy,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxDisabled, "RFC 3463 x.2.1: the mailbox is switched off."},
		example: "550 5.2.1 out of use"},
	{codes: []int{500, 501, 502, 504, 555},
		Meaning: Meaning{Moment, Unclear, finding.ExchangerUnavailable, "RFC 5321 section 4.2.2: the protocol or the host, not the mailbox."},
		example: "501 5.5.4 syntax error in parameters"},
	{codes: []int{5}, words: absent, without: phrase.Of("service unavailable", "host not found", "message-id", "policy", "spam", "our policies"),
		Meaning: Meaning{Mailbox, Refused, finding.MailboxAbsent, "The text says that there is no such mailbox."},
		example: "550 no such user here"},
	{codes: []int{550, 551, 553, 554}, words: phrase.Of("address rejected", "#rcpt#:"), without: policy,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxAbsent, "The recipient's address is refused, and no policy is named."},
		example: "550 address rejected"},
	{codes: []int{5}, enhanced: []string{"1.1", "1.2", "1.3", "1.10"}, without: policy,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxAbsent, "RFC 3463 x.1.1 and kin: a bad destination address."},
		example: "550 5.1.1 whatever"},
	{codes: []int{5}, enhanced: []string{"1.1", "1.2", "1.3", "1.10", "2.1", "2.0"}, words: policy,
		Meaning: Meaning{Mailbox, Unclear, finding.MailboxUnclear, "The code speaks of the mailbox and the text of a policy: one of them is wrong."},
		example: "550 5.1.1 refused by policy"},

	// ---- 5xx that do not say whom they are about
	{codes: []int{5}, words: later, enhanced: []string{"7.", "4.", "3.", "0."}, without: policy,
		Meaning: Meaning{Moment, Postponed, finding.ExchangerPostponed, "It asks us to come back, with the wrong class of code."},
		example: "550 5.7.0 please try again later"},
	{codes: []int{5}, words: login,
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "The host takes us for one of its own users who has to sign in."},
		example: "550 authentication required"},
	{codes: []int{5}, enhanced: []string{"7."},
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, policyOnly},
		example: "550 5.7.1 message refused by policy"},
	{codes: []int{571},
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, policyOnly},
		example: "571 delivery not wanted"},
	{codes: []int{5}, enhanced: []string{"3.", "4.", "5."}, without: policy,
		Meaning: Meaning{Moment, Unclear, finding.ExchangerUnavailable, "RFC 3463 x.3, x.4, x.5: the system, the network or the protocol, not the mailbox."},
		example: "554 5.3.0 other mail system problem"},
	{codes: []int{550, 551, 553},
		Meaning: Meaning{Mailbox, Unclear, finding.MailboxUnclear, "A bare 550 may be about the mailbox or about us; it does not say."},
		example: "550 no"},
	{codes: []int{552},
		Meaning: Meaning{Mailbox, Refused, finding.MailboxFull, "RFC 5321 section 4.2.3: 552 is exceeded storage."},
		example: "552 not any more"},
	{codes: []int{5},
		Meaning: Meaning{Moment, Unclear, finding.MailboxUnclear, "A refusal that does not say whom it is about."},
		example: "554 transaction failed"},
}

const (
	policyOnly  = "RFC 3463 x.7.x, or 571, without a word about the mailbox: a matter of policy, hence of us."
	greylisting = "Greylisting (RFC 6647): strangers are put off at first."
	wrongHost   = "The host does not take mail for the domain: a wrong host, not a missing mailbox."
)

var (
	// listedHard are words of standing that count even beside a refusal to relay.
	listedHard = phrase.Of("blocklist", "blacklist", "black list", "block list", "dnsbl", "reputation", "client host rejected", "client host…blocked")
	// policyOrUs are words beside which a mailbox's full or closed state is not believed.
	policyOrUs = phrase.Of("policy", "spam", "abuse", "message count", "your ip", "sender", "rate limit", "policies", "blacklist", "security", "virus", "content")
	// absentButDomain are sentences that name the domain and mean the mailbox.
	absentButDomain = phrase.Of("no such user", "user unknown", "unknown user", "no mailbox", "no such mailbox", "user does not exist", "mailbox does not exist",
		"user not found", "no such recipient", "user doesn't exist", "unknown recipient")
)
