package ledger_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"varnet/core/ledger"
)

var prices = ledger.Prices{Currency: "EUR", Steps: []ledger.Step{{UpTo: 10_000, PerThousand: 400}, {UpTo: 100_000, PerThousand: 300}, {PerThousand: 200}}}

// 142,853 checks: each step at its own price.
func ExamplePrices_Of() {
	total, lines, _ := prices.Of(142_853, 0)
	for _, l := range lines {
		fmt.Println(l.Checks, ledger.Money("EUR", l.PerThousand), ledger.Money("EUR", l.Amount))
	}
	fmt.Println(ledger.Money("EUR", total))
	// Output:
	// 10000 EUR 4.00 EUR 40.00
	// 90000 EUR 3.00 EUR 270.00
	// 42853 EUR 2.00 EUR 85.71
	// EUR 395.71
}

// TestPrices: lines add up, more never costs less, and a price is within a unit a step of exact.
func TestPrices(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 7))
	for range 20_000 {
		n, off := 1+rnd.Int64N(ledger.MostBought-1), rnd.Int64N(91)
		total, lines, err := prices.Of(n, off)
		more, _, _ := prices.Of(n+1, off)
		sum, checks := int64(0), int64(0)
		for _, l := range lines {
			sum, checks = sum+l.Amount, checks+l.Checks
		}
		if err != nil || sum != total || checks != n || more < total {
			t.Fatalf("%d checks cost %d, their lines %d for %d, one more %d (%v)", n, total, sum, checks, more, err)
		}
	}
	for _, n := range []int64{0, -1, ledger.MostBought + 1, 1<<63 - 1, -1 << 63} {
		if _, _, err := prices.Of(n, 0); err == nil {
			t.Errorf("%d checks have a price", n)
		}
	}
	// The dearest scale that there may be does not overflow.
	dear := ledger.Prices{Currency: "JPY", Steps: []ledger.Step{{PerThousand: 1_000_000_000}}}
	if total, _, err := dear.Of(ledger.MostBought, 0); err != nil || total != 1_000_000_000_000_000 || dear.Check() != nil {
		t.Errorf("the dearest purchase costs %d (%v)", total, err)
	}
}

func TestWrongPlans(t *testing.T) {
	good := ledger.Plan{Name: "Clubs", Grant: 500, Keep: 1, Costs: ledger.Costs{Mailbox: 1}, Urgent: 2, Prices: prices}
	if err := good.Check(); err != nil {
		t.Fatal(err)
	}
	for want, change := range map[string]func(*ledger.Plan){
		"name":       func(p *ledger.Plan) { p.Name = " " },
		"grants":     func(p *ledger.Plan) { p.Grant = -1 },
		"kept":       func(p *ledger.Plan) { p.Keep = -1 },
		"urgent":     func(p *ledger.Plan) { p.Urgent = 1 },
		"costs from": func(p *ledger.Plan) { p.Costs.Mailbox = ledger.MostCost + 1 },
		"percent":    func(p *ledger.Plan) { p.SubscriptionOff = 100 },
		"estimates":  func(p *ledger.Plan) { p.EstimatesADay = -1 },
		"limit":      func(p *ledger.Plan) { p.Limits.KeyDay = -1 },
		"currency":   func(p *ledger.Plan) { p.Prices.Currency = "euro" },
		"step 1":     func(p *ledger.Plan) { p.Prices.Steps = []ledger.Step{{UpTo: 0, PerThousand: 1}, {PerThousand: 1}} },
		"step 2": func(p *ledger.Plan) {
			p.Prices.Steps = []ledger.Step{{UpTo: 10, PerThousand: 1}, {UpTo: 20, PerThousand: 1}}
		},
	} {
		p := good
		change(&p)
		if err := p.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
}

func TestMonths(t *testing.T) {
	for _, c := range [][3]string{{"2027-01-31T10:00:00Z", "1", "2027-02-28T10:00:00Z"}, {"2027-01-31T10:00:00Z", "2", "2027-03-31T10:00:00Z"}, {"2026-11-29T00:00:00Z", "15", "2028-02-29T00:00:00Z"}} {
		from, _ := time.Parse(time.RFC3339, c[0])
		var n int
		_, _ = fmt.Sscan(c[1], &n)
		if got := ledger.Month(from, n).Format(time.RFC3339); got != c[2] {
			t.Errorf("%s and %s months: %s, not %s", c[0], c[1], got, c[2])
		}
	}
	if l := (ledger.Plan{Grant: 10, Keep: 1}).Lot(noon); !l.ExpiresAt.Equal(ledger.Month(noon, 1)) || !(ledger.Plan{Grant: 10}).Lot(noon).ExpiresAt.IsZero() {
		t.Error("a grant is not kept for as long as its plan says")
	}
}

func TestTax(t *testing.T) {
	table := []ledger.TaxRate{{Country: "DE", Name: "VAT", Rate: 1900, Reverse: true}, {Country: "CH", Name: "VAT", Rate: 810}}
	for _, c := range []struct {
		buyer, vat string
		amount     int64
		note       string
	}{{"DE", "", 1900, ""}, {"DE", "DE1", 0, "Reverse"}, {"CH", "CHE-1", 810, ""}, {"US", "", 0, "No tax"}} {
		got := ledger.TaxOf(table, 10_000, c.buyer, c.vat, "AT")
		if got.Amount != c.amount || !strings.HasPrefix(got.Note, c.note) || (c.note == "") != (got.Note == "") {
			t.Errorf("%s %q: %+v", c.buyer, c.vat, got)
		}
	}
	if got := ledger.TaxOf(table, 10_000, "DE", "DE1", "DE"); got.Amount != 1900 {
		t.Errorf("a business of the seller's own country pays %d", got.Amount)
	}
	if got := ledger.TaxOf(table, 50, "DE", "", "DE").Amount; got != 10 { // 9.5
		t.Errorf("half a unit is rounded to %d, not up", got)
	}
}

func TestMoney(t *testing.T) {
	for _, c := range []struct {
		code   string
		amount int64
		want   string
	}{{"EUR", 123_450, "EUR 1,234.50"}, {"JPY", 1_234_567, "JPY 1,234,567"}, {"KWD", 5, "KWD 0.005"}, {"HUF", -100, "HUF -1.00"}, {"CLF", 12_345, "CLF 1.2345"}} {
		if got := ledger.Money(c.code, c.amount); got != c.want {
			t.Errorf("%s, not %s", got, c.want)
		}
	}
	for _, wrong := range []string{"eur", "EURO", "", "E1R"} {
		if _, err := ledger.DigitsOf(wrong); err == nil {
			t.Errorf("%q is a currency", wrong)
		}
	}
}

// TestOtherPayments: a payment of another amount or currency credits nothing, and a second one is
// returned.
func TestOtherPayments(t *testing.T) {
	p := ledger.Purchase{State: ledger.Open, Total: 100, Currency: "EUR"}
	for _, c := range []ledger.Call{{"p", ledger.CallPaid, 99, "EUR"}, {"p", ledger.CallPaid, 100, "JPY"}, {"p", ledger.CallPaid, -100, "EUR"}, {"p", "given", 100, "EUR"}} {
		if effect, err := p.Take(c); err == nil || effect != ledger.Nothing || p.State != ledger.Open {
			t.Errorf("%+v: %q, %v", c, effect, err)
		}
	}
	for _, want := range []ledger.Effect{ledger.Credit, ledger.Nothing} {
		if effect, _ := p.Take(ledger.Call{"p", ledger.CallPaid, 100, "EUR"}); effect != want {
			t.Errorf("%q, not %q", effect, want)
		}
	}
	if effect, _ := p.Take(ledger.Call{"q", ledger.CallPaid, 100, "EUR"}); effect != ledger.ReturnPay {
		t.Errorf("a second payment: %q", effect)
	}
	if effect, _ := p.Take(ledger.Call{"q", ledger.CallPaidBack, 100, "EUR"}); effect != ledger.Nothing || p.State != ledger.Paid {
		t.Errorf("the second payment is paid back: %q, and the purchase is %s", effect, p.State)
	}
}

func TestRefill(t *testing.T) {
	r := ledger.RefillRule{Under: 100, Buy: 500, Most: 2}
	if !r.Due(99, 1) || r.Due(100, 0) || r.Due(0, 2) || (ledger.RefillRule{}).Due(-1, 0) {
		t.Error("a refill is due when it should not be, or not when it should")
	}
	if until, ok := ledger.Lasts(300, 600, 30, noon); !ok || !until.Equal(noon.AddDate(0, 0, 15)) {
		t.Errorf("300 at 20 a day last until %s (%v)", until, ok)
	}
	if _, ok := ledger.Lasts(300, 0, 30, noon); ok {
		t.Error("what is not used comes to an end")
	}
}
