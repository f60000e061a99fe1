package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"varnet/internal/contract"
)

// Allowance returns how many checks the workspace may still use.
func (c *Client) Allowance(ctx context.Context) (a contract.Allowance, err error) {
	return a, c.call(ctx, http.MethodGet, "/allowance", nil, &a)
}

// SetAllowance changes when it is told that few are left, and what is bought by itself.
func (c *Client) SetAllowance(ctx context.Context, s contract.AllowanceSettings) (a contract.Allowance, err error) {
	return a, c.call(ctx, http.MethodPut, "/allowance", s, &a)
}

// Price returns what a number of checks costs.
func (c *Client) Price(ctx context.Context, q contract.PriceQuestion) (p contract.Price, err error) {
	return p, c.call(ctx, http.MethodPost, "/prices", q, &p)
}

// Buy orders checks; the answer names the page on which they are paid.
func (c *Client) Buy(ctx context.Context, o contract.PurchaseOrder) (p contract.Purchase, err error) {
	return p, c.call(ctx, http.MethodPost, "/purchases", o, &p)
}

// Purchases returns a page of what was bought, newest first.
func (c *Client) Purchases(ctx context.Context, q contract.PageQuery) (page contract.Page[contract.Purchase], err error) {
	return page, c.call(ctx, http.MethodGet, "/purchases?"+contract.Query(q).Encode(), nil, &page)
}

// Purchase returns where a purchase stands.
func (c *Client) Purchase(ctx context.Context, id int64) (p contract.Purchase, err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/purchases/%d", id), nil, &p)
}

// Invoice writes the invoice of a purchase, or its credit note, as PDF.
func (c *Client) Invoice(ctx context.Context, id int64, credit bool, out io.Writer) error {
	return c.download(ctx, fmt.Sprintf("/purchases/%d/invoice?credit=%v", id, credit), out)
}

// Usage returns what was charged, by day, run, routine, connection, key or person. Times are RFC 3339; "" is
// the last 30 days.
func (c *Client) Usage(ctx context.Context, by, from, until string) (u contract.Usage, err error) {
	return u, c.call(ctx, http.MethodGet, "/usage?"+usageQuery(by, from, until), nil, &u)
}

// UsageFile writes the same as CSV.
func (c *Client) UsageFile(ctx context.Context, by, from, until string, out io.Writer) error {
	return c.download(ctx, "/usage/file?"+usageQuery(by, from, until), out)
}

func usageQuery(by, from, until string) string {
	q := url.Values{"by": {by}}
	if from != "" {
		q.Set("from", from)
	}
	if until != "" {
		q.Set("until", until)
	}
	return q.Encode()
}

// Statement returns what came and went in a month, such as 2026-11.
func (c *Client) Statement(ctx context.Context, month string) (s contract.LedgerStatement, err error) {
	return s, c.call(ctx, http.MethodGet, "/statements/"+url.PathEscape(month), nil, &s)
}

// StatementFile writes the same as pdf or csv.
func (c *Client) StatementFile(ctx context.Context, month, format string, out io.Writer) error {
	return c.download(ctx, "/statements/"+url.PathEscape(month)+"/file?format="+url.QueryEscape(format), out)
}

// Accounts returns the allowances of all workspaces.
func (c *Client) Accounts(ctx context.Context) (p contract.Page[contract.Account], err error) {
	return p, c.call(ctx, http.MethodGet, "/installation/accounts", nil, &p)
}

// SetAccountPlan keeps an allowance of a workspace by a plan, or (0) none.
func (c *Client) SetAccountPlan(ctx context.Context, workspace, plan int64) (p contract.Page[contract.Account], err error) {
	return p, c.call(ctx, http.MethodPut, fmt.Sprintf("/installation/accounts/%d", workspace), contract.AccountPlan{PlanID: plan}, &p)
}

// GrantChecks gives a workspace checks, or takes some away.
func (c *Client) GrantChecks(ctx context.Context, workspace int64, g contract.NewGrant) (p contract.Page[contract.Account], err error) {
	return p, c.call(ctx, http.MethodPost, fmt.Sprintf("/installation/accounts/%d/grants", workspace), g, &p)
}

// Plans returns the plans that workspaces may have.
func (c *Client) Plans(ctx context.Context) (p contract.Page[contract.AllowancePlan], err error) {
	return p, c.call(ctx, http.MethodGet, "/installation/plans", nil, &p)
}

// SavePlan makes a plan (0), or changes one.
func (c *Client) SavePlan(ctx context.Context, id int64, t contract.PlanTerms) (p contract.AllowancePlan, err error) {
	if id == 0 {
		return p, c.call(ctx, http.MethodPost, "/installation/plans", t, &p)
	}
	return p, c.call(ctx, http.MethodPut, fmt.Sprintf("/installation/plans/%d", id), t, &p)
}

// DeletePlan deletes a plan that no workspace has.
func (c *Client) DeletePlan(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, fmt.Sprintf("/installation/plans/%d", id), nil, nil)
}

// Billing returns how the installation is paid.
func (c *Client) Billing(ctx context.Context) (b contract.Billing, err error) {
	return b, c.call(ctx, http.MethodGet, "/installation/billing", nil, &b)
}

// SetBilling sets payment provider, seller and taxes.
func (c *Client) SetBilling(ctx context.Context, n contract.Billing) (b contract.Billing, err error) {
	return b, c.call(ctx, http.MethodPut, "/installation/billing", n, &b)
}

// PayBack refunds a purchase.
func (c *Client) PayBack(ctx context.Context, id int64) (p contract.Purchase, err error) {
	return p, c.call(ctx, http.MethodPost, fmt.Sprintf("/installation/purchases/%d/pay-back", id), nil, &p)
}

// VerifyLedger draws up the trial balance.
func (c *Client) VerifyLedger(ctx context.Context) (v contract.LedgerCheck, err error) {
	return v, c.call(ctx, http.MethodGet, "/installation/ledger", nil, &v)
}
