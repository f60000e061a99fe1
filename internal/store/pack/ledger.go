package pack

import "varnet/core/ledger"

var _ = keep(func(p ledger.Plan) planForm {
	return planForm{p.Name, p.Grant, p.Keep, costsForm(p.Costs), p.Urgent, p.EstimatesADay, limitsForm(p.Limits), p.Prices.Currency, each(p.Prices.Steps, func(s ledger.Step) priceStep { return priceStep(s) }), p.SubscriptionOff}
}, func(k planForm) ledger.Plan {
	return ledger.Plan{Name: k.Name, Grant: k.Grant, Keep: k.Keep, Costs: ledger.Costs(k.Costs), Urgent: k.Urgent, EstimatesADay: k.EstimatesADay, Limits: ledger.Limits(k.Limits),
		Prices: ledger.Prices{Currency: k.Currency, Steps: each(k.Steps, func(s priceStep) ledger.Step { return ledger.Step(s) })}, SubscriptionOff: k.SubscriptionOff}
})

type planForm struct {
	Name            string      `json:"name"`
	Grant           int64       `json:"grant,omitempty"`
	Keep            int         `json:"keep,omitempty"`
	Costs           costsForm   `json:"costs"`
	Urgent          int64       `json:"urgent,omitempty"`
	EstimatesADay   int         `json:"estimatesADay,omitempty"`
	Limits          limitsForm  `json:"limits"`
	Currency        string      `json:"currency,omitempty"`
	Steps           []priceStep `json:"steps,omitempty"`
	SubscriptionOff int64       `json:"subscriptionOff,omitempty"`
}

type costsForm struct {
	Syntax  int64 `json:"syntax,omitempty"`
	Domain  int64 `json:"domain,omitempty"`
	Mailbox int64 `json:"mailbox,omitempty"`
}

type limitsForm struct {
	Day       int64 `json:"day,omitempty"`
	PersonDay int64 `json:"personDay,omitempty"`
	KeyDay    int64 `json:"keyDay,omitempty"`
}

type priceStep struct {
	UpTo        int64 `json:"upTo,omitempty"`
	PerThousand int64 `json:"perThousand"`
}

var _ = keep(func(r ledger.RefillRule) refillForm { return refillForm(r) }, func(k refillForm) ledger.RefillRule { return ledger.RefillRule(k) })

type refillForm struct {
	Under int64 `json:"under"`
	Buy   int64 `json:"buy"`
	Most  int   `json:"most"`
}

var _ = keep(func(t ledger.Taken) takenForm { return takenForm(t) }, func(k takenForm) ledger.Taken { return ledger.Taken(k) })

type takenForm struct {
	Lot    int64 `json:"lot"`
	Amount int64 `json:"amount"`
}

var _ = keep(func(l ledger.Line) lineForm { return lineForm(l) }, func(k lineForm) ledger.Line { return ledger.Line(k) })

type lineForm struct {
	Checks      int64 `json:"checks"`
	PerThousand int64 `json:"perThousand"`
	Amount      int64 `json:"amount"`
}

var _ = keep(func(t ledger.TaxRate) taxRateForm { return taxRateForm(t) }, func(k taxRateForm) ledger.TaxRate { return ledger.TaxRate(k) })

type taxRateForm struct {
	Country string `json:"country"`
	Name    string `json:"name"`
	Rate    int64  `json:"rate"`
	Reverse bool   `json:"reverse,omitempty"`
}

var _ = keep(func(t ledger.Tax) taxForm { return taxForm(t) }, func(k taxForm) ledger.Tax { return ledger.Tax(k) })

type taxForm struct {
	Name   string `json:"name,omitempty"`
	Rate   int64  `json:"rate,omitempty"`
	Amount int64  `json:"amount,omitempty"`
	Note   string `json:"note,omitempty"`
}
