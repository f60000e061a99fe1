package ledger

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"varnet/core/say"
)

// Plan is what a workspace gets and pays: the terms that the owner of an installation sets.
type Plan struct {
	Name string
	// Grant is how many checks come each month, 0 none.
	Grant int64
	// Keep is for how many months a grant is kept, 0 for ever. 1: what is left of one is gone
	// when the next comes.
	Keep  int
	Costs Costs
	// Urgent is how many times the cost a run is that goes before others; 0: there is none.
	Urgent int64
	// EstimatesADay is how many quick estimates are free each day; 0 any number.
	EstimatesADay int
	Limits        Limits
	Prices        Prices
	// SubscriptionOff is by how much a subscription is cheaper, in percent.
	SubscriptionOff int64
}

// Limits are how many checks may be set aside in a day; 0: any number.
type Limits struct {
	Day       int64 // by the whole workspace
	PersonDay int64 // by each person
	KeyDay    int64 // by each key
}

const (
	mostKeep   = 120
	mostUrgent = 100
	mostDay    = 1_000_000
)

// Check reports what of a plan cannot be.
func (p Plan) Check() error {
	switch {
	case strings.TrimSpace(p.Name) == "" || len(p.Name) > 100:
		return errors.New("a plan needs a name of at most 100 characters")
	case p.Grant < 0 || p.Grant > Most:
		return fmt.Errorf("a plan grants from 0 to %s checks a month, not %d", say.Number(Most), p.Grant)
	case p.Keep < 0 || p.Keep > mostKeep:
		return fmt.Errorf("a grant is kept from 1 to %d months, or for ever (0), not %d", mostKeep, p.Keep)
	case p.Urgent < 0 || p.Urgent == 1 || p.Urgent > mostUrgent:
		return fmt.Errorf("an urgent run costs from 2 to %d times as much, or there is none (0), not %d", mostUrgent, p.Urgent)
	case p.EstimatesADay < 0 || p.EstimatesADay > mostDay:
		return fmt.Errorf("from 1 to %s estimates a day are free, or any number (0), not %d", say.Number(mostDay), p.EstimatesADay)
	case min(p.Limits.Day, p.Limits.PersonDay, p.Limits.KeyDay) < 0:
		return errors.New("a limit of a day is 1 check or more, or none (0)")
	case p.SubscriptionOff < 0 || p.SubscriptionOff > 90:
		return fmt.Errorf("a subscription is cheaper by 0 to 90 percent, not %d", p.SubscriptionOff)
	}
	return errors.Join(p.Costs.Check(), p.Prices.Check())
}

// Lot returns the grant of the plan that comes at a time.
func (p Plan) Lot(at time.Time) Lot {
	l := Lot{Source: Granted, Left: p.Grant}
	if p.Keep > 0 {
		l.ExpiresAt = Month(at, p.Keep)
	}
	return l
}

// Month returns the same day and time so many months later, in UTC; where that month is too
// short, its last day.
func Month(from time.Time, months int) time.Time {
	from = from.UTC()
	first := time.Date(from.Year(), from.Month()+time.Month(months), 1, from.Hour(), from.Minute(), from.Second(), from.Nanosecond(), time.UTC)
	last := first.AddDate(0, 1, -1).Day()
	return first.AddDate(0, 0, min(from.Day(), last)-1)
}

// Step is a part of the scale of prices: checks up to a number, each thousand at a price in the
// smallest unit of the currency.
type Step struct {
	UpTo        int64 // 0: any number; of the last step
	PerThousand int64
}

// Prices are the steps of a scale. Each step is paid at its own price, so that more checks never
// cost less than fewer. None: nothing can be bought.
type Prices struct {
	Currency string // ISO 4217, such as EUR
	Steps    []Step
}

// Bounds of a purchase.
const (
	MostBought = 1_000_000_000 // checks in one purchase
	mostPrice  = 1_000_000_000 // of a thousand checks, in the smallest unit
	mostSteps  = 20
)

// Check reports what of prices cannot be.
func (p Prices) Check() error {
	if len(p.Steps) == 0 {
		return nil
	}
	if _, err := DigitsOf(p.Currency); err != nil {
		return err
	}
	if len(p.Steps) > mostSteps {
		return fmt.Errorf("prices have at most %d steps, not %d", mostSteps, len(p.Steps))
	}
	before := int64(0)
	for i, s := range p.Steps {
		last := i == len(p.Steps)-1
		switch {
		case s.PerThousand < 0 || s.PerThousand > mostPrice:
			return fmt.Errorf("step %d: a thousand checks cost from 0 to %s of the smallest unit, not %d", i+1, say.Number(mostPrice), s.PerThousand)
		case last && s.UpTo != 0:
			return fmt.Errorf("step %d: the last step goes up to any number (0)", i+1)
		case !last && (s.UpTo <= before || s.UpTo > MostBought):
			return fmt.Errorf("step %d: a step goes further than the one before it, up to %s at most", i+1, say.Number(MostBought))
		}
		before = s.UpTo
	}
	return nil
}

// Line is what a purchase takes of one step.
type Line struct {
	Checks      int64
	PerThousand int64
	Amount      int64 // in the smallest unit
}

// ErrNoPrice reports that nothing can be bought.
var ErrNoPrice = errors.New("nothing can be bought by this plan: it has no prices")

// Of returns what a number of checks costs, in the smallest unit, and how that comes about. off
// is by how many percent it is cheaper. Lines are rounded half up, each by itself, so that they add up.
func (p Prices) Of(checks, off int64) (total int64, lines []Line, err error) {
	if len(p.Steps) == 0 {
		return 0, nil, ErrNoPrice
	}
	if checks < 1 || checks > MostBought {
		return 0, nil, fmt.Errorf("from 1 to %s checks can be bought at once, not %d", say.Number(MostBought), checks)
	}
	before := int64(0)
	for _, s := range p.Steps {
		n := checks - before
		if s.UpTo != 0 {
			n = min(n, s.UpTo-before)
		}
		if n <= 0 {
			break
		}
		price := s.PerThousand * (100 - off) // in hundredths: at most 10^9 checks × 10^11
		amount := share(n, price, 100_000)
		lines, total, before = append(lines, Line{n, s.PerThousand, amount}), total+amount, s.UpTo
		if s.UpTo == 0 {
			break
		}
	}
	return total, lines, nil
}

// share returns n × part / whole, rounded half up, where the product may be beyond 64 bits.
func share(n, part, whole int64) int64 {
	high, low := n/whole, n%whole
	return high*part + (low*part+whole/2)/whole
}

// TaxRate is a row of the table of taxes: what is added for customers of a country.
type TaxRate struct {
	Country string // ISO 3166-1, two letters
	Name    string // such as VAT
	// Rate is in hundredths of a percent: 1900 is 19 %.
	Rate int64
	// Reverse: a business of that country that has a VAT number, and is not of the seller's,
	// owes the tax itself.
	Reverse bool
}

// Check reports what of a row cannot be.
func (t TaxRate) Check() error {
	switch {
	case !twoLetters(t.Country):
		return fmt.Errorf("%q is not a country: two capital letters, as in ISO 3166-1", t.Country)
	case strings.TrimSpace(t.Name) == "" || len(t.Name) > 40:
		return fmt.Errorf("the tax of %s needs a name of at most 40 characters", t.Country)
	case t.Rate < 0 || t.Rate > 10_000:
		return fmt.Errorf("the tax of %s is from 0 to 10000 hundredths of a percent, not %d", t.Country, t.Rate)
	}
	return nil
}

func twoLetters(s string) bool {
	return len(s) == 2 && s[0] >= 'A' && s[0] <= 'Z' && s[1] >= 'A' && s[1] <= 'Z'
}

// Tax is what is added to a price.
type Tax struct {
	Name   string
	Rate   int64
	Amount int64
	Note   string // why there is none
}

// TaxOf returns the tax on an amount by the country and VAT number of the buyer and the country of
// the seller. Countries that the table does not have pay none.
func TaxOf(table []TaxRate, net int64, buyer, vat, seller string) Tax {
	i := slices.IndexFunc(table, func(t TaxRate) bool { return t.Country == buyer })
	if i < 0 {
		return Tax{Note: "No tax is charged to customers of this country."}
	}
	t := table[i]
	if t.Reverse && vat != "" && buyer != seller {
		return Tax{Name: t.Name, Note: "Reverse charge: the customer owes the " + t.Name + "."}
	}
	return Tax{Name: t.Name, Rate: t.Rate, Amount: share(net, t.Rate, 10_000)}
}

// RefillRule buys checks by itself.
type RefillRule struct {
	Under int64 // when fewer are available
	Buy   int64
	// Most is how often in 30 days.
	Most int
}

// Check reports what of a rule cannot be.
func (r RefillRule) Check() error {
	switch {
	case r.Under < 1 || r.Under > Most:
		return errors.New("a refill comes when fewer than 1 or more checks are available")
	case r.Buy < 1 || r.Buy > MostBought:
		return fmt.Errorf("a refill buys from 1 to %s checks", say.Number(MostBought))
	case r.Most < 1 || r.Most > 30:
		return errors.New("a refill happens from 1 to 30 times in 30 days")
	}
	return nil
}

// Due reports whether a refill is to be bought.
func (r RefillRule) Due(available int64, lately int) bool {
	return r.Buy > 0 && available < r.Under && lately < r.Most
}
