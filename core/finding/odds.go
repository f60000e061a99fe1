package finding

import "math"

// byFinding are the odds a finding starts from when its cause says no more.
var byFinding = map[Finding]float64{
	Deliverable:   0.98,
	CatchAll:      0.55,
	Undecided:     0.50,
	Undeliverable: 0.00,
}

// byCause are the odds of causes that tell more than their finding does. A
// full mailbox may be emptied; a host that is out of reach seldom comes back.
var byCause = map[Cause]float64{
	DomainUnresolved:     0.20,
	ExchangerUnreachable: 0.15,
	ExchangerSilent:      0.30,
	ExchangerPostponed:   0.70,
	ExchangerBlocksUs:    0.60,
	ExchangerThrottles:   0.65,
	MailboxFull:          0.10,
	MailboxDisabled:      0.02,
}

// byTrait multiplies the odds.
var byTrait = map[Trait]float64{
	TraitRandomLooking: 0.6,
	TraitTypo:          0.7,
	TraitDisposable:    0.6,
}

// Odds estimates the probability, 0 to 1 in steps of 0.01, that a message sent
// now would be delivered.
func Odds(f Finding, c Cause, t Traits) float64 {
	o, ok := byCause[c]
	if !ok {
		o = byFinding[f]
	}
	if f != Deliverable {
		for _, x := range t {
			if m, ok := byTrait[x]; ok {
				o *= m
			}
		}
	}
	return math.Round(o*100) / 100
}
