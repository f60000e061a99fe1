package allowance

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
	"varnet/core/ledger"
	"varnet/core/say"
	"varnet/internal/pay"
	"varnet/internal/store"
)

const (
	providerPurpose = "payment provider"
	methodPurpose   = "way to pay"
)

// ErrClosed reports that nothing can be bought.
var ErrClosed = &Refused{"Nothing can be bought here: whoever runs the installation has named no payment provider and seller."}

// provider returns the payment provider and the seller.
func (d *Desk) provider(ctx context.Context) (p pay.Provider, b store.Billing, err error) {
	if b, err = d.Store.Billing(ctx); err != nil {
		return p, b, err
	}
	if b.Provider == "" || b.Seller == nil || len(b.SecretSealed) == 0 {
		return p, b, ErrClosed
	}
	secret, err := d.Secrets.Open(b.SecretSealed, providerPurpose)
	return pay.Provider{Address: b.Provider, Secret: secret}, b, err
}

// SealSecret seals the secret of the payment provider.
func (d *Desk) SealSecret(secret string) []byte { return d.Secrets.Seal(secret, providerPurpose) }

// Reseal seals the secret of the payment provider and the stored ways to pay with the present secret,
// and returns how many there are.
func (d *Desk) Reseal(ctx context.Context) (n int, err error) {
	for what, purpose := range map[store.Sealed]string{store.PaymentSecrets: providerPurpose, store.PaymentMethods: methodPurpose} {
		some, err := d.Store.Reseal(ctx, what, func(_ string, sealed []byte) ([]byte, error) { return d.Secrets.Reseal(sealed, purpose) })
		if n += some; err != nil {
			return n, err
		}
	}
	return n, nil
}

// Quote returns what a purchase comes to, without buying. Why is ledger.TopUp, or
// ledger.Subscription, which is cheaper. Tax is that of the buyer, or (nil) of the one whom the
// invoices of the workspace are made out to.
func (d *Desk) Quote(ctx context.Context, workspace, checks int64, why ledger.Why, buyer *store.Party) (p store.Purchase, err error) {
	a, kept, err := Kept(ctx, d.Store, workspace)
	switch {
	case err != nil:
		return p, err
	case !kept:
		return p, &Refused{"This workspace has no allowance: it may check as much as it likes."}
	}
	b, err := d.Store.Billing(ctx)
	if err != nil {
		return p, err
	}
	p = store.Purchase{WorkspaceID: workspace, Why: string(why), Checks: checks, Currency: a.Plan.Prices.Currency, State: ledger.Open, MadeAt: d.Now()}
	if why == ledger.Subscription {
		p.Cheaper = a.Plan.SubscriptionOff
	}
	if p.Net, p.Lines, err = a.Plan.Prices.Of(checks, p.Cheaper); err != nil {
		return p, &Refused{say.Sentence(err.Error())}
	}
	if b.Seller != nil {
		p.Seller = *b.Seller
	}
	if buyer = cmp.Or(buyer, a.Buyer); buyer != nil {
		p.Buyer = *buyer
	}
	if p.Tax.Note = "Tax is added by the country that the invoice is for."; p.Buyer.Country != "" {
		p.Tax = ledger.TaxOf(b.Taxes, p.Net, p.Buyer.Country, p.Buyer.VATNumber, p.Seller.Country)
	}
	p.Total = p.Net + p.Tax.Amount
	return p, nil
}

// Buying is an order for a purchase.
type Buying struct {
	Workspace int64
	Checks    int64
	Why       ledger.Why
	Person    int64 // 0: nobody, it goes by itself
	Remember  bool  // the payment method, for refills and the subscription
	Base      string
	Back      string // the path to which people come back
}

// callsPath is where the provider tells what became of a payment.
const callsPath = "/api/v1/payment-calls"

// Buy records a purchase and has the provider start its payment; the checks come with its call. A
// purchase by itself is paid by the stored payment method.
func (d *Desk) Buy(ctx context.Context, o Buying) (p store.Purchase, err error) {
	provider, _, err := d.provider(ctx)
	if err != nil {
		return p, err
	}
	if p, err = d.Quote(ctx, o.Workspace, o.Checks, o.Why, nil); err != nil {
		return p, err
	}
	if p.Buyer.Name == "" || p.Buyer.Country == "" {
		return p, &Refused{"An invoice needs a name and an address. Enter first to whom it is made out."}
	}
	order := pay.Order{Title: say.Plural(p.Checks, "check", "checks"), Amount: p.Total, Currency: p.Currency, Calls: o.Base + callsPath, Remember: o.Remember}
	if o.Person == 0 {
		if order.Method, err = d.method(ctx, o.Workspace); err != nil {
			return p, err
		}
	} else {
		p.PersonID, order.Back = &o.Person, o.Base+o.Back
	}
	p.Reference = rand.Text()
	order.Reference = p.Reference
	if err := d.Store.NewPurchase(ctx, &p); err != nil {
		return p, err
	}
	page, err := provider.Start(ctx, order)
	if err != nil {
		return p, errors.Join(err, d.unstarted(ctx, p, err))
	}
	p.Page = page
	return p, d.Store.SetPage(ctx, p.ID, page)
}

// method returns the token of the stored payment method.
func (d *Desk) method(ctx context.Context, workspace int64) (string, error) {
	a, err := d.Store.Allowance(ctx, workspace)
	if err == nil && a.Method == "" {
		err = &Refused{"There is no stored payment method. Buy once, and have it remembered."}
	}
	if err != nil {
		return "", err
	}
	return d.Secrets.Open(a.MethodSealed, methodPurpose)
}

// unstarted records that a payment could not be started. A call about it that comes all the same is
// taken.
func (d *Desk) unstarted(ctx context.Context, p store.Purchase, why error) error {
	return d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		now, err := s.LockPurchase(ctx, p.Reference)
		if err != nil || now.State != ledger.Open {
			return err
		}
		now.State, now.Says = ledger.Refused, why.Error()
		if err := s.SetPurchase(ctx, now); err != nil {
			return err
		}
		return d.tellRefused(ctx, s, tx, now)
	})
}

// tellRefused tells that a purchase that goes by itself was refused; of others somebody sits at the page.
func (d *Desk) tellRefused(ctx context.Context, s *store.Store, tx pgx.Tx, p store.Purchase) error {
	if p.PersonID != nil {
		return nil
	}
	says := fmt.Sprintf("The %s of %s was not paid: %s", p.Why, say.Plural(p.Checks, "check", "checks"), cmp.Or(p.Says, "the provider gave no reason"))
	return d.Happened(ctx, s, tx, event.Event{Code: event.PurchaseRefused, Workspace: p.WorkspaceID, Says: says, Data: event.Data{Words: says}})
}

// Forged reports a call that is not the provider's.
type Forged struct{ error }

// Take takes a call of the provider. Each counts once, however often it is sent.
func (d *Desk) Take(ctx context.Context, h http.Header, body []byte) error {
	provider, _, err := d.provider(ctx)
	if err != nil {
		return err
	}
	id, c, err := provider.Read(h, body, time.Now())
	if err != nil {
		return &Forged{err}
	}
	err = d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error { return d.take(ctx, s, tx, id, c) })
	if err != nil {
		return err
	}
	return d.returnDue(ctx)
}

// take changes a purchase and the book by a call. The allowance is locked before the purchase, as
// everywhere.
func (d *Desk) take(ctx context.Context, s *store.Store, tx pgx.Tx, id string, c pay.Call) error {
	workspace, err := s.WorkspaceOfPurchase(ctx, c.Reference)
	if err != nil {
		return err
	}
	a, is, err := kept(s.LockAllowance(ctx, workspace))
	if err != nil {
		return err
	}
	p, err := s.LockPurchase(ctx, c.Reference)
	if err != nil {
		return err
	}
	state := ledger.Purchase{State: p.State, Payment: p.Payment, Total: p.Total, Currency: p.Currency}
	effect, err := state.Take(c.Ledger())
	if err != nil {
		return &Refused{say.Sentence(err.Error())}
	}
	fresh, err := s.NewPaymentCall(ctx, store.PaymentCall{ID: id, Reference: c.Reference, Kind: string(c.Kind), Payment: c.Payment, Did: string(effect), At: d.Now()})
	if err != nil || !fresh {
		return err
	}
	was := p.State
	p.State, p.Payment = state.State, state.Payment
	if p.State == ledger.Refused {
		p.Says = c.Says
	}
	if err := d.have(ctx, s, tx, effect, &p, a); err != nil {
		return err
	}
	if err := s.SetPurchase(ctx, p); err != nil {
		return err
	}
	if is && effect == ledger.Credit && c.Method != nil {
		a, err := s.LockAllowance(ctx, workspace) // it has changed by the credit
		if err != nil {
			return err
		}
		a.Method, a.MethodSealed = c.Method.Name, d.Secrets.Seal(c.Method.Token, methodPurpose)
		if err := s.SetAllowance(ctx, a); err != nil {
			return err
		}
	}
	if p.State == ledger.Refused && was != p.State {
		return d.tellRefused(ctx, s, tx, p)
	}
	return nil
}

// have has the effect of a call: checks that come or go, the paper, and the event that tells of it.
func (d *Desk) have(ctx context.Context, s *store.Store, tx pgx.Tx, effect ledger.Effect, p *store.Purchase, a store.Allowance) error {
	now := d.Now()
	switch effect {
	case ledger.Credit:
		lot, err := d.add(ctx, s, tx, p.WorkspaceID, ledger.Lot{Source: ledger.Bought, Left: p.Checks}, ledger.Why(p.Why), "")
		if err != nil {
			return err
		}
		p.LotID, p.PaidAt = &lot, &now
		if err := s.NewPaper(ctx, store.InvoicePaper, *p, now); err != nil {
			return err
		}
		says := fmt.Sprintf("%s were bought for %s.", say.Plural(p.Checks, "check", "checks"), ledger.Money(p.Currency, p.Total))
		if p.Why != string(ledger.TopUp) {
			says = fmt.Sprintf("%s were bought for %s by your %s.", say.Plural(p.Checks, "check", "checks"), ledger.Money(p.Currency, p.Total), p.Why)
		}
		return d.Happened(ctx, s, tx, event.Event{Code: event.PurchasePaid, Workspace: p.WorkspaceID, Says: says, Data: event.Data{Words: says}})
	case ledger.TakeBack:
		if p.LotID == nil {
			return nil
		}
		b, err := s.Book(ctx, p.WorkspaceID)
		if err != nil {
			return err
		}
		p.Withdrawn = b.Withdraw(*p.LotID, p.Checks, ledger.Withdrawal)
		if err := s.SaveBook(ctx, p.WorkspaceID, b, string(p.State), now); err != nil {
			return err
		}
		if err := s.EndLot(ctx, *p.LotID, now); err != nil { // what is set aside of it, and not used, is nobody's
			return err
		}
		if err := s.NewPaper(ctx, store.CreditNotePaper, *p, now); err != nil {
			return err
		}
		says := fmt.Sprintf("The payment of %s was %s: of its %s, %s, and %s used before.", ledger.Money(p.Currency, p.Total), p.State, say.Plural(p.Checks, "check", "checks"),
			say.Plural(p.Withdrawn, "is taken back", "are taken back"), say.Plural(p.Checks-p.Withdrawn, "was", "were"))
		return d.Happened(ctx, s, tx, event.Event{Code: event.PurchaseBack, Workspace: p.WorkspaceID, Says: says, Data: event.Data{Words: says}})
	}
	return nil
}

// add puts a lot into the book of a workspace, whose allowance is locked, and returns its number.
func (d *Desk) add(ctx context.Context, s *store.Store, tx pgx.Tx, workspace int64, l ledger.Lot, why ledger.Why, note string) (int64, error) {
	now := d.Now()
	b, err := s.Book(ctx, workspace)
	if err != nil {
		return 0, err
	}
	b.Expire(now)
	if err := s.NewLot(ctx, workspace, &l, now); err != nil {
		return 0, err
	}
	if err := b.Add(l, why); err != nil {
		return 0, &Refused{say.Sentence(err.Error())}
	}
	if err := s.SaveBook(ctx, workspace, b, note, now); err != nil {
		return 0, err
	}
	a, is, err := Kept(ctx, s, workspace)
	if err != nil || !is {
		return l.ID, err
	}
	return l.ID, d.tellLow(ctx, s, tx, a, b.Balance())
}

// returned marks in payment_call that a payment too many was given back.
const returned = "returned"

// returnDue has payments paid back that are one too many; what fails is tried again.
func (d *Desk) returnDue(ctx context.Context) error {
	due, err := d.Store.CallsThatDid(ctx, string(ledger.ReturnPay))
	if err != nil || len(due) == 0 {
		return err
	}
	provider, _, err := d.provider(ctx)
	if err != nil {
		return err
	}
	for _, c := range due {
		if err := provider.Return(ctx, c.Payment); err != nil {
			d.Log.Warn("a double payment is not refunded yet", "payment", c.Payment, "err", err)
			continue
		}
		if err := d.Store.SetPaymentCall(ctx, c.ID, returned); err != nil {
			return err
		}
	}
	return nil
}

// PayBack asks the provider to pay a purchase back; its call says when that is done.
func (d *Desk) PayBack(ctx context.Context, id int64) error {
	p, err := d.Store.Purchase(ctx, 0, id)
	if err != nil {
		return err
	}
	if p.State != ledger.Paid {
		return &Refused{fmt.Sprintf("Purchase %d is %s; only a paid one can be refunded.", p.ID, p.State)}
	}
	provider, _, err := d.provider(ctx)
	if err != nil {
		return err
	}
	return provider.Return(ctx, p.Payment)
}

// Grant gives a workspace checks, or, below 0, takes away what is there of them.
func (d *Desk) Grant(ctx context.Context, workspace, checks int64, expires time.Time, note string) error {
	return d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		a, err := s.LockAllowance(ctx, workspace)
		if err != nil {
			return err
		}
		if checks >= 0 {
			if !expires.IsZero() && !expires.After(d.Now()) {
				return &Refused{"Checks that expire do so later than now."}
			}
			_, err := d.add(ctx, s, tx, workspace, ledger.Lot{Source: ledger.Granted, Left: checks, ExpiresAt: expires}, ledger.Grant, note)
			return err
		}
		b, err := s.Book(ctx, workspace)
		if err != nil {
			return err
		}
		if checks < -ledger.Most || b.Balance() < -checks {
			return &Refused{fmt.Sprintf("%s, so no more can be taken away.", say.Plural(b.Balance(), "check is available", "checks are available"))}
		}
		left := -checks
		for _, l := range b.Lots {
			left -= b.Withdraw(l.ID, left, ledger.Correction)
		}
		if err := s.SaveBook(ctx, workspace, b, note, d.Now()); err != nil {
			return err
		}
		return d.tellLow(ctx, s, tx, a, b.Balance())
	})
}

// Settings are what the managers of a workspace set.
type Settings struct {
	Low          int64
	Refill       *ledger.RefillRule
	Subscription int64
	Buyer        *store.Party
}

// Set records settings. A subscription begins with a first month at once; one that ends leaves what
// was bought.
func (d *Desk) Set(ctx context.Context, workspace int64, n Settings) error {
	return d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		a, err := s.LockAllowance(ctx, workspace)
		if err != nil {
			return err
		}
		if n.Refill != nil {
			if err := n.Refill.Check(); err != nil {
				return &Refused{say.Sentence(err.Error())}
			}
		}
		if by := n.Refill != nil || n.Subscription > 0; by && (a.Method == "" || n.Buyer == nil) {
			return &Refused{"Automatic purchases need a stored payment method and a name and address for invoices. Buy once, and have the payment method remembered."}
		}
		if n.Subscription != a.Subscription {
			now := d.Now()
			a.SubscribedAt, a.Renewals = &now, 0
		}
		a.Low, a.Refill, a.Subscription, a.Buyer = n.Low, n.Refill, n.Subscription, n.Buyer
		b, err := s.Book(ctx, workspace)
		if err != nil {
			return err
		}
		a.LowTold = a.LowTold && b.Balance() < a.Low
		return s.SetAllowance(ctx, a)
	})
}

// ForgetMethod forgets the stored payment method, and with it what is bought by itself.
func (d *Desk) ForgetMethod(ctx context.Context, workspace int64) error {
	return d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		a, err := s.LockAllowance(ctx, workspace)
		if err != nil {
			return err
		}
		a.Method, a.MethodSealed, a.Refill, a.Subscription = "", nil, nil, 0
		return s.SetAllowance(ctx, a)
	})
}

// Keep keeps an allowance of a workspace by a plan, or (0) none any more. The first grant comes at once;
// where one was kept before, the next comes with its next month.
func (d *Desk) Keep(ctx context.Context, workspace, plan int64) error {
	if plan == 0 {
		return d.Store.EndAllowance(ctx, workspace)
	}
	err := d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if _, err := s.AllowancePlan(ctx, plan); err != nil {
			return err
		}
		a, err := s.LockAllowance(ctx, workspace)
		if errors.Is(err, store.ErrNotFound) {
			a, err = d.resumed(ctx, s, workspace)
		}
		if err != nil {
			return err
		}
		a.PlanID = plan
		return s.SetAllowance(ctx, a)
	})
	if err != nil {
		return err
	}
	return d.grantDue(ctx, workspace)
}

// resumed is an allowance that is kept again, without the grants of the months that have begun, or a new one.
func (d *Desk) resumed(ctx context.Context, s *store.Store, workspace int64) (store.Allowance, error) {
	a, err := s.EndedAllowance(ctx, workspace)
	if errors.Is(err, store.ErrNotFound) {
		return store.Allowance{WorkspaceID: workspace, Since: d.Now()}, nil
	}
	for now := d.Now(); err == nil && !a.GrantDue().After(now); a.Grants++ {
	}
	return a, err
}
