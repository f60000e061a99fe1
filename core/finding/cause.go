package finding

import "time"

// Cause says why an address has its finding, as "stage.what".
type Cause string

// Stage is a step of the verification. The furthest stage that spoke gives the
// cause.
type Stage string

// The stages in their order, and the operator's own rules beside them.
const (
	StageSyntax    Stage = "syntax"
	StageDomain    Stage = "domain"
	StageExchanger Stage = "exchanger"
	StageMailbox   Stage = "mailbox"
	StageRule      Stage = "rule"
)

// The causes. Causes holds what each means.
const (
	SyntaxMalformed   Cause = "syntax.malformed"
	SyntaxTooLong     Cause = "syntax.too-long"
	SyntaxBadDomain   Cause = "syntax.bad-domain"
	SyntaxUnsupported Cause = "syntax.unsupported"

	DomainAbsent       Cause = "domain.absent"
	DomainNoMail       Cause = "domain.no-mail"
	DomainNoExchanger  Cause = "domain.no-exchanger"
	DomainBadExchanger Cause = "domain.bad-exchanger"
	DomainUnresolved   Cause = "domain.unresolved"

	ExchangerUnreachable Cause = "exchanger.unreachable"
	ExchangerSilent      Cause = "exchanger.silent"
	ExchangerDroppedUs   Cause = "exchanger.dropped-us"
	ExchangerGarbled     Cause = "exchanger.garbled"
	ExchangerBlocksUs    Cause = "exchanger.blocks-us"
	ExchangerThrottles   Cause = "exchanger.throttles"
	ExchangerPostponed   Cause = "exchanger.postponed"
	ExchangerNeedsTLS    Cause = "exchanger.needs-tls"
	ExchangerUnavailable Cause = "exchanger.unavailable"
	ExchangerNoUTF8      Cause = "exchanger.no-utf8"

	MailboxAccepted    Cause = "mailbox.accepted"
	MailboxAnyAccepted Cause = "mailbox.any-accepted"
	MailboxAbsent      Cause = "mailbox.absent"
	MailboxDisabled    Cause = "mailbox.disabled"
	MailboxFull        Cause = "mailbox.full"
	MailboxMoved       Cause = "mailbox.moved"
	MailboxRestricted  Cause = "mailbox.restricted"
	MailboxUnclear     Cause = "mailbox.unclear"
	MailboxBounced     Cause = "mailbox.bounced"
	MailboxSettled     Cause = "mailbox.settled"

	RuleSkipped Cause = "rule.skipped"
	RuleDepth   Cause = "rule.depth"
	RuleErased  Cause = "rule.erased"
)

// CauseInfo is the registry's entry for one cause.
type CauseInfo struct {
	Code    Cause
	Stage   Stage
	Title   string
	Meaning string
	Advice  string
	// Findings are the findings the cause may go with.
	Findings []Finding
	// AskAgain reports whether asking again may bring another answer.
	AskAgain bool
}

func (i CauseInfo) allows(f Finding) bool {
	for _, g := range i.Findings {
		if g == f {
			return true
		}
	}
	return false
}

var byCode = func() map[Cause]CauseInfo {
	m := make(map[Cause]CauseInfo, len(registry))
	for _, i := range registry {
		m[i.Code] = i
	}
	return m
}()

// Causes lists the registry in the order of the stages.
func Causes() []CauseInfo { return append([]CauseInfo(nil), registry...) }

// Lookup returns the registry's entry for a cause.
func Lookup(c Cause) (CauseInfo, bool) {
	i, ok := byCode[c]
	return i, ok
}

// Stage is the stage a cause belongs to.
func (c Cause) Stage() Stage { return byCode[c].Stage }

// Keeps tells for how long a result with the cause is taken for true where
// results are to be reused for a time: what is absent stays so longer, a full
// mailbox is soon emptied, and what asking again may change is not reused.
func (c Cause) Keeps(usual time.Duration) time.Duration {
	switch info := byCode[c]; {
	case c == MailboxAbsent || c == DomainAbsent || c == DomainNoMail:
		return KeepsAtMost(usual)
	case c == MailboxFull:
		return usual / 4
	case c == MailboxBounced || c == MailboxSettled:
		return 0 // what is kept of the outcome itself gives them, and takes them away
	case info.AskAgain || info.Stage == StageRule || info.Stage == StageSyntax:
		return 0
	}
	return usual
}

// KeepsAtMost is the longest for which Keeps takes any result for true.
func KeepsAtMost(usual time.Duration) time.Duration { return 2 * usual }
