package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/ledger"
	"varnet/core/say"
	"varnet/internal/allowance"
	"varnet/internal/contract"
	"varnet/internal/report"
	"varnet/internal/store"
)

func (a *API) registerPurchases(h huma.API) {
	huma.Register(h, operation("get-price", http.MethodPost, "/prices", "What a number of checks costs; nothing is bought"), a.price)
	huma.Register(h, operation("get-purchases", http.MethodGet, "/purchases", "What was bought, newest first"), a.purchases)
	huma.Register(h, creates(operation("buy-checks", http.MethodPost, "/purchases", "Buy checks; they come when the payment provider says that they are paid")), a.buy)
	huma.Register(h, operation("get-purchase", http.MethodGet, "/purchases/{id}", "Where a purchase stands"), a.purchase)
	invoice := operation("get-invoice", http.MethodGet, "/purchases/{id}/invoice", "Its invoice, which is the receipt too, or its credit note")
	invoice.Responses = fileResponse("application/pdf")
	huma.Register(h, invoice, a.invoice)
	call := operation("call-payment", http.MethodPost, "/payment-calls", "Tell what became of a payment, by a signed call")
	call.RequestBody = &huma.RequestBody{Required: true, Description: "What the provider tells, as JSON.", Content: fileBody.Content}
	call.DefaultStatus = http.StatusNoContent
	huma.Register(h, call, a.callPayment)
}

func priceBody(p store.Purchase) contract.Price {
	out := contract.Price{Checks: p.Checks, Currency: p.Currency, Lines: []contract.PriceLine{}, Cheaper: p.Cheaper, Net: p.Net, Tax: p.Tax.Amount, TaxSays: p.Tax.Note, Total: p.Total, Says: ledger.Money(p.Currency, p.Total)}
	for _, l := range p.Lines {
		out.Lines = append(out.Lines, contract.PriceLine{Checks: l.Checks, PerThousand: l.PerThousand, Amount: l.Amount,
			Says: fmt.Sprintf("%s at %s a thousand: %s", say.Plural(l.Checks, "check", "checks"), ledger.Money(p.Currency, l.PerThousand), ledger.Money(p.Currency, l.Amount))})
	}
	if p.Tax.Note == "" && p.Tax.Name != "" {
		out.TaxSays = fmt.Sprintf("%s: %s", p.Tax.Name, ledger.Money(p.Currency, p.Tax.Amount))
	}
	return out
}

func purchaseBody(p store.Purchase) contract.Purchase {
	out := contract.Purchase{ID: p.ID, Price: priceBody(p), WorkspaceID: p.WorkspaceID, Why: p.Why, State: string(p.State), Withdrawn: p.Withdrawn, MadeAt: p.MadeAt, PaidAt: p.PaidAt}
	switch p.State {
	case ledger.Open:
		out.Page = p.Page
	case ledger.Refused:
		out.Page, out.Reason = p.Page, p.Says
	}
	if p.Invoice != nil {
		out.Invoice = numberOf(invoicePrefix, *p.Invoice)
	}
	if p.CreditNote != nil {
		out.CreditNote = numberOf(creditPrefix, *p.CreditNote)
	}
	return out
}

// What numbers of papers begin with.
const (
	invoicePrefix = "I"
	creditPrefix  = "C"
)

func (a *API) price(ctx context.Context, in *struct{ Body contract.PriceQuestion }) (*struct{ Body contract.Price }, error) {
	why := ledger.TopUp
	if in.Body.Subscription {
		why = ledger.Subscription
	}
	var buyer *store.Party
	if in.Body.Country != "" {
		buyer = &store.Party{Country: in.Body.Country, VATNumber: in.Body.VATNumber}
	}
	p, err := a.engine.Allowance.Quote(ctx, workspace(ctx).ID, in.Body.Checks, why, buyer)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Price }{priceBody(p)}, nil
}

func (a *API) purchases(ctx context.Context, in *struct {
	Cursor
	Limit
}) (*pageOutput[contract.Purchase], error) {
	return a.pageOfPurchases(ctx, workspace(ctx).ID, in.Cursor, in.Limit.Limit)
}

func (a *API) pageOfPurchases(ctx context.Context, workspace int64, c Cursor, limit int) (*pageOutput[contract.Purchase], error) {
	before := int64(0)
	if err := c.place(&before); err != nil {
		return nil, err
	}
	found, err := a.store.Purchases(ctx, workspace, before, limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(contract.Each(found, purchaseBody), limit, func(p contract.Purchase) any { return p.ID }), nil
}

func (a *API) buy(ctx context.Context, in *struct{ Body contract.PurchaseOrder }) (*made[contract.Purchase], error) {
	if err := byPerson(ctx); err != nil {
		return nil, err
	}
	w := workspace(ctx).ID
	back := "/purchases"
	if in.Body.List != 0 {
		if _, err := a.store.List(ctx, w, in.Body.List); err != nil {
			return nil, a.failed(ctx, err)
		}
		back = fmt.Sprintf("/lists/%d", in.Body.List)
	}
	s, err := a.letters.Settings(ctx)
	if err != nil || s.BaseURL == "" {
		return nil, huma.Error409Conflict("Nothing can be bought yet: an owner of the installation must first set the address at which people reach it (under Letters).")
	}
	p, err := a.engine.Allowance.Buy(ctx, allowance.Buying{Workspace: w, Checks: in.Body.Checks, Why: ledger.TopUp, Person: callerOf(ctx).PersonID, Remember: in.Body.Remember, Base: s.BaseURL, Back: back})
	if err != nil {
		if p.ID != 0 {
			a.log.Warn("a payment could not be started", "err", err)
			return nil, huma.Error503ServiceUnavailable("The payment provider does not answer. Nothing was bought; try again in a moment.")
		}
		return nil, a.failed(ctx, err)
	}
	return &made[contract.Purchase]{fmt.Sprintf("/api/v1/purchases/%d", p.ID), purchaseBody(p)}, nil
}

func (a *API) purchase(ctx context.Context, in *ByID) (*struct{ Body contract.Purchase }, error) {
	p, err := a.store.Purchase(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Purchase }{purchaseBody(p)}, nil
}

func (a *API) invoice(ctx context.Context, in *struct {
	ByID
	Credit bool `query:"credit" doc:"The credit note instead."`
}) (*huma.StreamResponse, error) {
	p, err := a.store.Purchase(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	kind, prefix, number := store.InvoicePaper, invoicePrefix, p.Invoice
	if in.Credit {
		kind, prefix, number = store.CreditNotePaper, creditPrefix, p.CreditNote
	}
	if number == nil {
		return nil, huma.Error409Conflict(fmt.Sprintf("Purchase %d is %s and has no %s.", p.ID, p.State, kind))
	}
	made, err := a.store.PaperMadeAt(ctx, p.ID, kind)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	party := func(p store.Party) report.Party {
		return report.Party{Name: p.Name, Lines: p.Lines, Country: p.Country, VATNumber: p.VATNumber}
	}
	i := report.Invoice{Number: numberOf(prefix, *number), Made: made, Seller: party(p.Seller), Buyer: party(p.Buyer), What: p.Why, Currency: p.Currency, Lines: p.Lines, Cheaper: p.Cheaper,
		Net: p.Net, Tax: p.Tax, Total: p.Total, Payment: p.Payment}
	if p.PaidAt != nil {
		i.Paid = *p.PaidAt
	}
	if in.Credit {
		i.Credit = numberOf(invoicePrefix, *p.Invoice)
	}
	return a.stream(download{name: i.Number + ".pdf", kind: "application/pdf", write: i.PDF}), nil
}

// mostPaymentCall is how many bytes a call of the payment provider has at the most.
const mostPaymentCall = 64 << 10

func (a *API) callPayment(ctx context.Context, in *struct{ signedCall }) (*struct{}, error) {
	body, err := io.ReadAll(io.LimitReader(in.body, mostPaymentCall+1))
	if err != nil {
		return nil, a.broken(ctx, err)
	}
	if len(body) > mostPaymentCall {
		return nil, huma.Error413RequestEntityTooLarge("A call about a payment holds at most 64 KB.")
	}
	err = a.engine.Allowance.Take(ctx, in.header, body)
	var forged *allowance.Forged
	if errors.As(err, &forged) || errors.Is(err, allowance.ErrClosed) {
		a.log.Warn("a call about a payment was refused", "err", err)
		return nil, huma.Error401Unauthorized("The call is not signed by the secret of the payment provider, or it cannot be read.")
	}
	return nil, a.failed(ctx, err)
}

// planBody is a plan as the API shows it.
func planBody(p store.AllowancePlan) contract.AllowancePlan {
	t := p.Terms
	digits, _ := ledger.DigitsOf(cmp.Or(t.Prices.Currency, "EUR"))
	return contract.AllowancePlan{ID: p.ID, Workspaces: p.Workspaces, PlanTerms: contract.PlanTerms{Name: t.Name, Grant: t.Grant, Keep: t.Keep, SyntaxCost: t.Costs.Syntax, DomainCost: t.Costs.Domain, MailboxCost: t.Costs.Mailbox,
		Urgent: t.Urgent, EstimatesADay: t.EstimatesADay, Day: t.Limits.Day, PersonDay: t.Limits.PersonDay, KeyDay: t.Limits.KeyDay, Currency: t.Prices.Currency, Digits: digits,
		Steps: contract.Each(t.Prices.Steps, func(s ledger.Step) contract.PriceStep { return contract.PriceStep(s) }), SubscriptionOff: t.SubscriptionOff}}
}

// termsOf is a plan as it was sent.
func termsOf(t contract.PlanTerms) ledger.Plan {
	return ledger.Plan{Name: t.Name, Grant: t.Grant, Keep: t.Keep, Costs: ledger.Costs{Syntax: t.SyntaxCost, Domain: t.DomainCost, Mailbox: t.MailboxCost}, Urgent: t.Urgent, EstimatesADay: t.EstimatesADay,
		Limits: ledger.Limits{Day: t.Day, PersonDay: t.PersonDay, KeyDay: t.KeyDay}, SubscriptionOff: t.SubscriptionOff,
		Prices: ledger.Prices{Currency: t.Currency, Steps: contract.Each(t.Steps, func(s contract.PriceStep) ledger.Step { return ledger.Step(s) })}}
}
