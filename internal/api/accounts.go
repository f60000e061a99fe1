package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/ledger"
	"varnet/core/say"
	"varnet/internal/allowance"
	"varnet/internal/contract"
	"varnet/internal/pay"
	"varnet/internal/store"
	"varnet/internal/webhook"
)

func (a *API) registerAccounts(h huma.API) {
	huma.Register(h, operation("get-accounts", http.MethodGet, "/installation/accounts", "The allowances of all workspaces"), a.accountsOfAll)
	huma.Register(h, operation("set-account-plan", http.MethodPut, "/installation/accounts/{id}", "Give a workspace an allowance under a plan, or none"), a.setAccountPlan)
	huma.Register(h, operation("grant-checks", http.MethodPost, "/installation/accounts/{id}/grants", "Give a workspace checks, or take some away"), a.grantChecks)
	huma.Register(h, operation("get-plans", http.MethodGet, "/installation/plans", "The plans that workspaces may have"), a.plans)
	huma.Register(h, creates(operation("make-plan", http.MethodPost, "/installation/plans", "Make a plan")), a.makePlan)
	huma.Register(h, operation("change-plan", http.MethodPut, "/installation/plans/{id}", "Change the terms of a plan, from now on"), a.changePlan)
	huma.Register(h, operation("delete-plan", http.MethodDelete, "/installation/plans/{id}", "Delete a plan that no workspace has"), a.deletePlan)
	huma.Register(h, operation("get-billing", http.MethodGet, "/installation/billing", "How the installation is paid"), a.billing)
	huma.Register(h, operation("set-billing", http.MethodPut, "/installation/billing", "Set payment provider, seller and taxes"), a.setBilling)
	huma.Register(h, operation("get-all-purchases", http.MethodGet, "/installation/purchases", "What all workspaces bought, newest first"), a.allPurchases)
	huma.Register(h, operation("pay-back-purchase", http.MethodPost, "/installation/purchases/{id}/pay-back", "Refund a purchase; what is left of its checks is withdrawn once the provider confirms it"), a.payBack)
	huma.Register(h, operation("verify-ledger", http.MethodGet, "/installation/ledger", "Draw up the trial balance, and hold everything against the entries"), a.verifyLedger)
}

func (a *API) accountsOfAll(ctx context.Context, _ *struct{}) (*pageOutput[contract.Account], error) {
	teams, err := a.store.Usages(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	kept, err := a.store.Allowances(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	left, err := a.store.AllowancesLeft(ctx, 0, a.engine.Clock.Now())
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	used, err := a.store.UsedOfAll(ctx, a.engine.Clock.Now().AddDate(0, 0, -allowance.UsedDays))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	plans := map[int64]store.Allowance{}
	for _, k := range kept {
		plans[k.WorkspaceID] = k
	}
	return whole(contract.Each(teams, func(t store.Usage) contract.Account {
		k, is := plans[t.ID]
		return contract.Account{WorkspaceID: t.ID, Workspace: t.Name, Kept: is, PlanID: k.PlanID, Plan: k.Plan.Name, Available: left[t.ID].Available, Reserved: left[t.ID].Reserved, UsedLately: used[t.ID]}
	})), nil
}

func (a *API) setAccountPlan(ctx context.Context, in *struct {
	ByID
	Body contract.AccountPlan
}) (*pageOutput[contract.Account], error) {
	teams, err := a.store.Usages(ctx) // those that are being deleted are not among them
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if !slices.ContainsFunc(teams, func(t store.Usage) bool { return t.ID == in.ID }) {
		return nil, huma.Error404NotFound(fmt.Sprintf("There is no workspace %d.", in.ID))
	}
	if err := a.engine.Allowance.Keep(ctx, in.ID, in.Body.PlanID); err != nil {
		return nil, a.failed(ctx, err)
	}
	noteOf(ctx).detail = fmt.Sprintf("plan %d", in.Body.PlanID)
	return a.accountsOfAll(ctx, nil)
}

func (a *API) grantChecks(ctx context.Context, in *struct {
	ByID
	Body contract.NewGrant
}) (*pageOutput[contract.Account], error) {
	var until time.Time
	if in.Body.ExpiresAt != nil {
		until = *in.Body.ExpiresAt
	}
	err := a.engine.Allowance.Grant(ctx, in.ID, in.Body.Checks, until, in.Body.Note)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("Workspace %d has no allowance. Give it a plan first.", in.ID))
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	noteOf(ctx).detail = fmt.Sprintf("%d checks", in.Body.Checks)
	return a.accountsOfAll(ctx, nil)
}

func (a *API) plans(ctx context.Context, _ *struct{}) (*pageOutput[contract.AllowancePlan], error) {
	found, err := a.store.AllowancePlans(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, planBody)), nil
}

func (a *API) makePlan(ctx context.Context, in *struct{ Body contract.PlanTerms }) (*made[contract.AllowancePlan], error) {
	id, p, err := a.savePlan(ctx, 0, in.Body)
	if err != nil {
		return nil, err
	}
	return &made[contract.AllowancePlan]{fmt.Sprintf("/api/v1/installation/plans/%d", id), p}, nil
}

func (a *API) changePlan(ctx context.Context, in *struct {
	ByID
	Body contract.PlanTerms
}) (*struct{ Body contract.AllowancePlan }, error) {
	_, p, err := a.savePlan(ctx, in.ID, in.Body)
	if err != nil {
		return nil, err
	}
	return &struct{ Body contract.AllowancePlan }{p}, nil
}

func (a *API) savePlan(ctx context.Context, id int64, t contract.PlanTerms) (int64, contract.AllowancePlan, error) {
	terms := termsOf(t)
	if err := terms.Check(); err != nil {
		return 0, contract.AllowancePlan{}, huma.Error422UnprocessableEntity(say.Sentence(err.Error()))
	}
	id, err := a.store.SavePlanTerms(ctx, id, terms)
	if errors.Is(err, store.ErrPlanName) {
		return 0, contract.AllowancePlan{}, huma.Error409Conflict("There is a plan of this name already.")
	}
	if err != nil {
		return 0, contract.AllowancePlan{}, a.failed(ctx, err)
	}
	p, err := a.store.AllowancePlan(ctx, id)
	return id, planBody(p), a.failed(ctx, err)
}

func (a *API) deletePlan(ctx context.Context, in *ByID) (*struct{}, error) {
	err := a.store.ArchivePlan(ctx, in.ID)
	if errors.Is(err, store.ErrPlanUsed) {
		return nil, huma.Error409Conflict("Workspaces have this plan, or new ones get it. Choose another for them first.")
	}
	return nil, a.failed(ctx, err)
}

type billingOutput struct{ Body contract.Billing }

func (a *API) billing(ctx context.Context, _ *struct{}) (*billingOutput, error) {
	b, err := a.store.Billing(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.Billing{Provider: b.Provider, Taxes: contract.Each(b.Taxes, func(t ledger.TaxRate) contract.TaxRate { return contract.TaxRate(t) })}
	if b.Seller != nil {
		p := contract.Party(*b.Seller)
		out.Seller = &p
	}
	if b.DefaultPlan != nil {
		out.DefaultPlanID = *b.DefaultPlan
	}
	if s, err := a.letters.Settings(ctx); err == nil {
		out.Calls = s.BaseURL + "/api/v1/payment-calls"
	}
	return &billingOutput{out}, nil
}

func (a *API) setBilling(ctx context.Context, in *struct{ Body contract.Billing }) (*billingOutput, error) {
	b, err := a.store.Billing(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	wrong := func(at, why string) error {
		return huma.Error422UnprocessableEntity("One of the settings cannot be.", &huma.ErrorDetail{Location: "body." + at, Message: why})
	}
	n := in.Body
	if n.Provider != "" {
		if err := pay.CheckAddress(n.Provider); err != nil {
			return nil, wrong("provider", err.Error())
		}
	}
	if n.Secret != nil {
		if !webhook.IsSecret(*n.Secret) {
			return nil, wrong("secret", webhook.ErrSecret.Error())
		}
		b.SecretSealed = a.engine.Allowance.SealSecret(*n.Secret)
	}
	if n.Provider != b.Provider && n.Secret == nil && n.Provider != "" {
		return nil, wrong("secret", "another provider has another secret: give it, too")
	}
	b.Provider, b.Seller, b.Taxes, b.DefaultPlan = n.Provider, nil, nil, nil
	if n.DefaultPlanID != 0 {
		if _, err := a.store.AllowancePlan(ctx, n.DefaultPlanID); err != nil {
			return nil, wrong("defaultPlanId", fmt.Sprintf("there is no plan %d", n.DefaultPlanID))
		}
		b.DefaultPlan = &n.DefaultPlanID
	}
	if n.Seller != nil {
		p := store.Party(*n.Seller)
		b.Seller = &p
	}
	for i, t := range n.Taxes {
		rate := ledger.TaxRate(t)
		if err := rate.Check(); err != nil {
			return nil, wrong(fmt.Sprintf("taxes[%d]", i), err.Error())
		}
		b.Taxes = append(b.Taxes, rate)
	}
	if err := a.store.SetBilling(ctx, b); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.billing(ctx, nil)
}

func (a *API) allPurchases(ctx context.Context, in *struct {
	Cursor
	Limit
}) (*pageOutput[contract.Purchase], error) {
	return a.pageOfPurchases(ctx, 0, in.Cursor, in.Limit.Limit)
}

func (a *API) payBack(ctx context.Context, in *ByID) (*struct{ Body contract.Purchase }, error) {
	if err := a.engine.Allowance.PayBack(ctx, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	p, err := a.store.Purchase(ctx, 0, in.ID)
	return &struct{ Body contract.Purchase }{purchaseBody(p)}, a.failed(ctx, err)
}

func (a *API) verifyLedger(ctx context.Context, _ *struct{}) (*struct{ Body contract.LedgerCheck }, error) {
	v, err := a.engine.Allowance.Verify(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.LedgerCheck{Right: len(v.Problems) == 0, Entries: v.Entries, Balances: []contract.LedgerBalance{}, Problems: append([]string{}, v.Problems...), Says: v.Says()}
	for _, account := range ledger.Accounts() {
		out.Balances = append(out.Balances, contract.LedgerBalance{Account: string(account), Balance: v.Balances[account]})
	}
	return &struct{ Body contract.LedgerCheck }{out}, nil
}
