package api

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/ledger"
	"varnet/core/sheet"
	"varnet/internal/allowance"
	"varnet/internal/contract"
	"varnet/internal/report"
	"varnet/internal/store"
)

func (a *API) registerAllowance(h huma.API) {
	huma.Register(h, operation("get-allowance", http.MethodGet, "/allowance", "How many checks the workspace may still use"), a.allowance)
	huma.Register(h, operation("set-allowance", http.MethodPut, "/allowance", "Set the warning level, the refill, the subscription and whom invoices are for"), a.setAllowance)
	huma.Register(h, operation("forget-method", http.MethodDelete, "/allowance/method", "Forget the stored payment method"), a.forgetMethod)
	huma.Register(h, operation("get-usage", http.MethodGet, "/usage", "What was charged for what"), a.usage)
	file := operation("get-usage-file", http.MethodGet, "/usage/file", "The same as CSV")
	file.Responses = fileResponse("text/csv")
	huma.Register(h, file, a.usageFile)
	huma.Register(h, operation("get-statement", http.MethodGet, "/statements/{month}", "What came and went in a month"), a.statement)
	paper := operation("get-statement-file", http.MethodGet, "/statements/{month}/file", "The same as PDF or CSV")
	paper.Responses = fileResponse("application/pdf")
	huma.Register(h, paper, a.statementFile)
}

// by is who uses checks by a request.
func by(ctx context.Context) (b store.By) {
	if c := callerOf(ctx); c.KeyID != 0 {
		b.KeyID = &c.KeyID
	} else {
		b.PersonID = &c.PersonID
	}
	return b
}

// tooShort tells how many checks are missing.
func tooShort(s *ledger.Short) error {
	why, _ := allowance.Hinders(s)
	return problemOf(contract.AllowanceShort, contract.AllowanceShort.Status, why+" Buy as many, or take a part of the list.",
		&huma.ErrorDetail{Location: "allowance", Value: s.Missing()})
}

type allowanceOutput struct{ Body contract.Allowance }

func (a *API) allowance(ctx context.Context, _ *struct{}) (*allowanceOutput, error) {
	st, kept, err := a.engine.Allowance.Stands(ctx, workspace(ctx).ID)
	if err != nil || !kept {
		return &allowanceOutput{}, a.failed(ctx, err)
	}
	b, err := a.store.Billing(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	plan, next := planBody(store.AllowancePlan{ID: st.PlanID, Terms: st.Plan}), st.GrantDue()
	out := contract.Allowance{Kept: true, Available: st.Available, Reserved: st.Reserved, Whole: st.Whole, Says: st.Says(zone(ctx)), UsedLately: st.Used30, LastsUntil: st.Lasts,
		ExpiresAt: st.NextExpiry, Expiring: st.Expiring, Plan: &plan, Low: st.Low, Method: st.Method, Subscription: st.Subscription,
		CanBuy: b.Provider != "" && b.Seller != nil && len(st.Plan.Prices.Steps) > 0}
	if st.Plan.Grant > 0 {
		out.NextGrantAt = &next
	}
	if st.Refill != nil {
		r := contract.Refill(*st.Refill)
		out.Refill = &r
	}
	if st.Subscription > 0 {
		at := st.RenewalDue()
		out.NextRenewalAt = &at
	}
	if st.Buyer != nil {
		p := contract.Party(*st.Buyer)
		out.Buyer = &p
	}
	return &allowanceOutput{out}, nil
}

// byPerson refuses keys: what costs money a person orders.
func byPerson(ctx context.Context) error {
	if callerOf(ctx).KeyID != 0 {
		return huma.Error403Forbidden("This costs money, so a person does it in the console, and no key.")
	}
	return nil
}

func (a *API) setAllowance(ctx context.Context, in *struct{ Body contract.AllowanceSettings }) (*allowanceOutput, error) {
	if err := byPerson(ctx); err != nil {
		return nil, err
	}
	s := allowance.Settings{Low: in.Body.Low, Subscription: in.Body.Subscription}
	if in.Body.Refill != nil {
		r := ledger.RefillRule(*in.Body.Refill)
		s.Refill = &r
	}
	if in.Body.Buyer != nil {
		p := store.Party(*in.Body.Buyer)
		s.Buyer = &p
	}
	if err := a.engine.Allowance.Set(ctx, workspace(ctx).ID, s); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.allowance(ctx, nil)
}

func (a *API) forgetMethod(ctx context.Context, _ *struct{}) (*allowanceOutput, error) {
	if err := a.engine.Allowance.ForgetMethod(ctx, workspace(ctx).ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.allowance(ctx, nil)
}

// UsageQuery is what usage is asked for.
type UsageQuery struct {
	By    string    `query:"by" enum:"day,run,routine,connection,key,person" default:"day" doc:"What it is counted by."`
	From  time.Time `query:"from" doc:"From when; left out, 30 days ago."`
	Until time.Time `query:"until" doc:"To before when; left out, now."`
}

// mostUsage is over how long usage is told at once.
const mostUsage = 5 * 366 * 24 * time.Hour

func (a *API) usageOf(ctx context.Context, q UsageQuery) (u contract.Usage, err error) {
	now := a.engine.Clock.Now()
	if q.Until.IsZero() {
		q.Until = now.Add(time.Minute)
	}
	if q.From.IsZero() {
		q.From = q.Until.AddDate(0, 0, -allowance.UsedDays)
	}
	if !q.From.Before(q.Until) || q.Until.Sub(q.From) > mostUsage {
		return u, huma.Error422UnprocessableEntity("Usage is told from a time to a later one, at most five years.")
	}
	z := zone(ctx)
	found, err := a.store.Usage(ctx, workspace(ctx).ID, q.By, q.From, q.Until, z.String())
	if err != nil {
		return u, a.failed(ctx, err)
	}
	u = contract.Usage{By: q.By, From: q.From, Until: q.Until, Items: []contract.UsageItem{}}
	for _, f := range found {
		i := contract.UsageItem{ID: f.ID, Label: f.Label, Checks: f.Checks, Times: f.Times}
		if q.By == store.ByDay {
			i.Label = f.Day.In(z).Format(time.DateOnly)
		} else if i.Label == "" {
			i.Label = unnamed[q.By][min(f.ID, 1)]
		}
		u.Sum += f.Checks
		u.Items = append(u.Items, i)
	}
	return u, nil
}

// unnamed is what usage without one is called, and that of one that is gone.
var unnamed = map[string]map[int64]string{
	store.ByRun:        {0: "single checks", 1: "a run"},
	store.ByRoutine:    {0: "by no routine", 1: "a routine that is gone"},
	store.ByConnection: {0: "from no connection", 1: "a connection that is gone"},
	store.ByKey:        {0: "by no key", 1: "a key that is gone"},
	store.ByPerson:     {0: "by no person", 1: "somebody who has left"},
}

func (a *API) usage(ctx context.Context, in *UsageQuery) (*struct{ Body contract.Usage }, error) {
	u, err := a.usageOf(ctx, *in)
	if err != nil {
		return nil, err
	}
	return &struct{ Body contract.Usage }{u}, nil
}

func (a *API) usageFile(ctx context.Context, in *UsageQuery) (*huma.StreamResponse, error) {
	u, err := a.usageOf(ctx, *in)
	if err != nil {
		return nil, err
	}
	return a.stream(download{name: "usage-by-" + u.By + ".csv", kind: "text/csv; charset=utf-8", write: func(out io.Writer) error {
		rows := [][]string{{u.By, "number", "checks", "runs and checks"}}
		for _, i := range u.Items {
			rows = append(rows, []string{sheet.Harmless(i.Label), strconv.FormatInt(i.ID, 10), strconv.FormatInt(i.Checks, 10), strconv.FormatInt(i.Times, 10)})
		}
		return csv.NewWriter(out).WriteAll(rows)
	}}), nil
}

// MonthPath names a month.
type MonthPath struct {
	Month string `path:"month" example:"2026-11" pattern:"^[0-9]{4}-(0[1-9]|1[0-2])$" doc:"The month, as 2026-11."`
}

func (a *API) statementOf(ctx context.Context, month string) (allowance.Statement, error) {
	at, err := time.Parse("2006-01", month)
	if err != nil {
		return allowance.Statement{}, huma.Error422UnprocessableEntity("A month is written as 2026-11.")
	}
	st, err := a.engine.Allowance.StatementOf(ctx, workspace(ctx).ID, at, zone(ctx))
	return st, a.failed(ctx, err)
}

func (a *API) statement(ctx context.Context, in *MonthPath) (*struct{ Body contract.LedgerStatement }, error) {
	st, err := a.statementOf(ctx, in.Month)
	if err != nil {
		return nil, err
	}
	out := contract.LedgerStatement{Month: in.Month, Before: st.Before, After: st.After, Lines: []contract.StatementLine{}, Says: st.Says()}
	for _, l := range st.Lines {
		out.Lines = append(out.Lines, contract.StatementLine{At: l.At, Why: string(l.Why), Says: l.Says, Amount: l.Amount, Balance: l.Balance})
	}
	return &struct{ Body contract.LedgerStatement }{out}, nil
}

func (a *API) statementFile(ctx context.Context, in *struct {
	MonthPath
	Format string `query:"format" enum:"pdf,csv" default:"pdf" doc:"A PDF, or CSV."`
}) (*huma.StreamResponse, error) {
	st, err := a.statementOf(ctx, in.Month)
	if err != nil {
		return nil, err
	}
	d := download{name: "statement-" + in.Month + "." + in.Format, kind: "text/csv; charset=utf-8", write: func(out io.Writer) error { return statementCSV(out, st) }}
	if in.Format == "pdf" {
		r := report.Statement{Workspace: workspace(ctx).Name, From: st.From, Made: a.engine.Clock.Now(), Before: st.Before, After: st.After}
		for _, l := range st.Lines {
			r.Lines = append(r.Lines, report.StatementLine{At: l.At, Says: l.Says, Amount: l.Amount, Balance: l.Balance})
		}
		d.kind, d.write = "application/pdf", r.PDF
	}
	return a.stream(d), nil
}

func statementCSV(out io.Writer, st allowance.Statement) error {
	w := csv.NewWriter(out)
	err := errors.Join(w.Write([]string{"when", "why", "what", "checks", "held"}), w.Write([]string{st.From.Format(time.RFC3339), "", "Held at the beginning", "", strconv.FormatInt(st.Before, 10)}))
	for _, l := range st.Lines {
		err = errors.Join(err, w.Write([]string{l.At.Format(time.RFC3339), string(l.Why), sheet.Harmless(l.Says), strconv.FormatInt(l.Amount, 10), strconv.FormatInt(l.Balance, 10)}))
	}
	w.Flush()
	return errors.Join(err, w.Error())
}

// numberOf writes the number of a paper.
func numberOf(prefix string, n int64) string { return fmt.Sprintf("%s-%06d", prefix, n) }
