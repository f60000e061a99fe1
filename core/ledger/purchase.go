package ledger

import (
	"fmt"
)

// State is where a purchase stands.
type State string

// The states of a purchase.
const (
	Open        State = "open" // waits for its payment
	Paid        State = "paid"
	Refused     State = "refused" // another payment may still come
	PaidBack    State = "paid back"
	ChargedBack State = "charged back" // the bank of the customer took the money back
)

// CallKind is what the payment provider tells of a payment.
type CallKind string

// The kinds of calls.
const (
	CallPaid        CallKind = "paid"
	CallRefused     CallKind = "refused"
	CallPaidBack    CallKind = "paid back"
	CallChargedBack CallKind = "charged back"
)

// Call is what the provider tells of one payment. Calls may come twice, late and out of order.
type Call struct {
	Payment  string
	Kind     CallKind
	Amount   int64
	Currency string
}

// Purchase is what of a purchase decides what a call does to it.
type Purchase struct {
	State    State
	Payment  string // by which it was paid
	Total    int64
	Currency string
}

// Effect is what is to be done after a call.
type Effect string

// The effects.
const (
	Nothing   Effect = ""
	Credit    Effect = "credit"   // the checks are added
	TakeBack  Effect = "withdraw" // what is left of them is taken back
	ReturnPay Effect = "return"   // the payment is one too many: it is to be paid back
)

// OtherAmount reports a payment of another amount than the purchase has.
type OtherAmount struct {
	Paid, Wanted string
}

func (o *OtherAmount) Error() string {
	return fmt.Sprintf("the payment is %s, and the purchase %s; nothing is credited", o.Paid, o.Wanted)
}

// Take takes a call. However often and in whatever order calls come, a purchase is credited once
// at the most, never after it was paid back, and a second payment for it is returned.
func (p *Purchase) Take(c Call) (Effect, error) {
	switch c.Kind {
	case CallPaid:
		return p.paid(c)
	case CallRefused:
		if p.State == Open {
			p.State = Refused
		}
		return Nothing, nil
	case CallPaidBack:
		return p.back(c, PaidBack), nil
	case CallChargedBack:
		return p.back(c, ChargedBack), nil
	}
	return Nothing, fmt.Errorf("a payment cannot be %q", c.Kind)
}

func (p *Purchase) paid(c Call) (Effect, error) {
	if c.Amount != p.Total || c.Currency != p.Currency {
		return Nothing, &OtherAmount{Money(c.Currency, c.Amount), Money(p.Currency, p.Total)}
	}
	switch {
	case p.State == Open || p.State == Refused:
		p.State, p.Payment = Paid, c.Payment
		return Credit, nil
	case p.Payment == c.Payment:
		return Nothing, nil
	}
	return ReturnPay, nil
}

// back takes a payment back. One of which it was not told yet that it was paid is noted, so that
// the call which says so comes too late.
func (p *Purchase) back(c Call, to State) Effect {
	switch {
	case p.State == Paid && p.Payment == c.Payment:
		p.State = to
		return TakeBack
	case p.State == Open || p.State == Refused:
		p.State, p.Payment = to, c.Payment
	case p.State == PaidBack && p.Payment == c.Payment:
		p.State = to
	}
	return Nothing
}
