package finding

import "math"

// The odds are a table: each cause has the share of addresses that a message
// really reached, and some traits multiply it. The shares were fitted on a
// practice world with every host character by really sending to every address
// (script/bench trust, seed 7), and are held there against another world: in no
// tenth of the scale may the stated odds be off by 5 points or more. On the
// practice internet a host that is out of reach stays so, hence the low odds.
var byCause = map[Cause]float64{
	MailboxAccepted:    0.99,
	MailboxAnyAccepted: 0.55,
	MailboxUnclear:     0.44,
	MailboxFull:        0.04,
	MailboxDisabled:    0.02,

	DomainUnresolved:     0.02,
	ExchangerUnreachable: 0.02,
	ExchangerSilent:      0.40,
	ExchangerNeedsTLS:    0.40,
	ExchangerUnavailable: 0.03,
	ExchangerGarbled:     0.30,
	ExchangerDroppedUs:   0.30,
	ExchangerBlocksUs:    0.79,
	ExchangerThrottles:   0.75,
	ExchangerPostponed:   0.75,

	RuleSkipped: 0.70,
	RuleDepth:   0.70,
}

// byTrait multiplies the odds of what is not certain. These are judgements, not
// measurements: the practice internet has no such people.
var byTrait = map[Trait]float64{
	TraitRandomLooking: 0.6,
	TraitTypo:          0.7,
	TraitDisposable:    0.6,
}

// Factor is one thing that the odds were made of.
type Factor struct {
	What  string  `json:"what" doc:"What was taken into account, in words."`
	Times float64 `json:"times" doc:"What it multiplies the odds by; the first factor is what they begin with."`
}

// Factors tells what the odds of a verdict are made of, in order; their product
// is the odds.
func Factors(f Finding, c Cause, t Traits) []Factor {
	info := byCode[c]
	out := []Factor{{What: info.Title, Times: byCause[c]}} // 0 for what is undeliverable
	if f == Deliverable || byCause[c] == 0 {
		return out
	}
	for _, i := range traits {
		if m, ok := byTrait[i.Code]; ok && t.Has(i.Code) {
			out = append(out, Factor{What: i.Title, Times: m})
		}
	}
	return out
}

// Odds estimates the probability, 0 to 1 in steps of 0.01, that a message sent
// now would be delivered.
func Odds(f Finding, c Cause, t Traits) float64 {
	o := 1.0
	for _, x := range Factors(f, c, t) {
		o *= x.Times
	}
	return math.Round(o*100) / 100
}
