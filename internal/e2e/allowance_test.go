package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/core/finding"
	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

var clubs = contract.PlanTerms{Name: "Clubs", MailboxCost: 1, Urgent: 2, SubscriptionOff: 10, Currency: "EUR", Steps: []contract.PriceStep{{UpTo: 1000, PerThousand: 4000}, {PerThousand: 3000}}}

// keptBy has an allowance of the first workspace kept by a plan, whose checks are paid at a stand-in of
// a payment provider.
func keptBy(t *testing.T, s *testkit.Service, api *client.Client, terms contract.PlanTerms) *practice.Cashier {
	t.Helper()
	cashier, err := practice.StartCashier("127.0.0.1:0", practice.PaymentSecret)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cashier.Close)
	plan, err := api.SavePlan(t.Context(), 0, terms)
	if err != nil {
		t.Fatal(err)
	}
	secret := cashier.Secret
	if _, err := api.SetBilling(t.Context(), contract.Billing{Provider: cashier.URL, Secret: &secret, Seller: &contract.Party{Name: "Bramble and Rook", Lines: []string{"1 Quay Street"}, Country: "GB"},
		Taxes: []contract.TaxRate{{Country: "GB", Name: "VAT", Rate: 2000}}}); err != nil {
		t.Fatal(err)
	}
	if _, err := api.SetAccountPlan(t.Context(), 1, plan.ID); err != nil {
		t.Fatal(err)
	}
	return cashier
}

// conclusive counts the results of a run that hosts gave, and that say something.
func conclusive(t *testing.T, api *client.Client, run int64) (n int64) {
	t.Helper()
	for _, r := range allResults(t, api, run) {
		if stage := finding.Cause(r.Cause).Stage(); r.Finding != finding.Undecided && stage != finding.StageSyntax && stage != finding.StageDomain {
			n++
		}
	}
	return n
}

// held is what the workspace has, once nothing is set aside.
func held(t *testing.T, api *client.Client) (a contract.Allowance) {
	t.Helper()
	eventually(t, 20*time.Second, func() (bool, string) {
		var err error
		if a, err = api.Allowance(t.Context()); err != nil {
			t.Fatal(err)
		}
		return a.Reserved == 0, a.Says
	})
	return a
}

// right verifies the book.
func right(t *testing.T, api *client.Client) {
	t.Helper()
	if v, err := api.VerifyLedger(t.Context()); err != nil || !v.Right {
		t.Errorf("%v: %s", err, v.Says)
	}
}

// TestAllowance goes the way of a list manager who has too few checks: says so before, buys exactly as
// many as are missing at the stand-in, starts, asks again, has a refill, is refused, and reads the
// statement; and of those who would like to have checks without paying.
func TestAllowance(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	box := letterbox(t, i, s)
	api, ctx := client.New(s.URL, s.Key), t.Context()
	l := imported(t, api, i.World, "members.csv", 400)
	if a, err := api.Allowance(ctx); err != nil || a.Kept {
		t.Fatalf("without a plan: %+v, %v", a, err)
	}
	cashier := keptBy(t, s, api, clubs)
	if _, err := api.GrantChecks(ctx, 1, contract.NewGrant{Checks: 100, Note: "to try it out"}); err != nil {
		t.Fatal(err)
	}
	draft, err := api.DraftRun(ctx, l.ID, contract.NewRun{Depth: "mailbox"})
	if err != nil || draft.Allowance == nil || draft.Allowance.Most != l.Addresses || draft.Allowance.Missing != l.Addresses-100 {
		t.Fatalf("said before: %+v, %v", draft.Allowance, err)
	}
	if _, err := api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox"}); status(err) != http.StatusConflict || !strings.Contains(err.Error(), fmt.Sprintf("%d more are needed", l.Addresses-100)) {
		t.Errorf("a run that is too large: %v", err)
	}

	do := drive(t, browser.Options{})
	do("sign in", browser.SignIn(s.URL), browser.Text("100 checks"))
	do("too little", chromedp.Navigate(fmt.Sprintf("%s/lists/%d", s.URL, l.ID)), browser.Text(fmt.Sprintf("%d too few", draft.Allowance.Missing)), browser.Text("Make a list of the first 100 rows"))
	do("exactly as many", browser.Press(fmt.Sprintf("Buy %d checks", draft.Allowance.Missing)), browser.Text("Plan “Clubs”"), browser.Fill("Name on the invoice", "Fernhollow Seed Library"),
		browser.Fill("Postal address", "3 Mill Lane"), browser.Fill("Country", "GB"), browser.Text("VAT: EUR"), browser.Click(`.asked input[type="checkbox"]`), browser.Press("Pay EUR"), browser.Text("This is not a real payment"))
	do("paid at the stand-in, and back at the list", browser.Press("Pay"), browser.Text("and 0 are left then"))
	do("the run", browser.Press("Start the run"), browser.Text("It took"))
	_, run := newest(t, api)
	a := held(t, api)
	if cost := conclusive(t, api, run.ID); a.Available != l.Addresses-cost || cost == 0 || cost == l.Addresses {
		t.Errorf("%d of %d addresses were conclusive, and %d checks are left", cost, l.Addresses, a.Available)
	}
	if run.Cost == "" || a.Method == "" {
		t.Errorf("the run says %q of its cost, and the payment method is %q", run.Cost, a.Method)
	}
	right(t, api)

	// What is asked again, and was known, is not paid again.
	before := a.Available
	if _, err := api.AskAgain(ctx, run.ID, contract.AskAgain{Findings: []finding.Finding{finding.Deliverable, finding.Undecided}}); err != nil {
		t.Fatal(err)
	}
	if run, err = api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	if a = held(t, api); a.Available < before-before/2 || a.Available != l.Addresses-conclusive(t, api, run.ID) {
		t.Errorf("after asking again %d checks are left of %d, and %d addresses are conclusive", a.Available, before, conclusive(t, api, run.ID))
	}
	// Reused results cost nothing.
	before = a.Available
	runOf(t, api, l.ID, contract.NewRun{Depth: "mailbox", ReuseDays: 30})
	if a = held(t, api); before-a.Available > before {
		t.Errorf("a run that reuses results took %d checks", before-a.Available)
	}

	do("a refill is set", browser.Press("Setup"), browser.Press("Plans and purchases"), browser.Fill("Tell when fewer", "5"), browser.Fill("Refill under", "100000"), browser.Fill("Buy", "150"), browser.Press("Save"), browser.Text("refill"))
	eventually(t, 30*time.Second, func() (bool, string) {
		p, err := api.Purchases(ctx, contract.PageQuery{Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		return len(p.Items) == 2 && p.Items[0].Why == "refill" && p.Items[0].State == "paid", fmt.Sprintf("%+v", p.Items)
	})
	eventually(t, 30*time.Second, func() (bool, string) {
		for _, m := range box.Letters(testkit.Person) {
			if strings.Contains(m.Subject, "Checks were bought") && strings.Contains(m.Text, "refill") {
				return true, ""
			}
		}
		return false, "no letter tells of the refill"
	})
	payments := cashier.Payments()
	phone := drive(t, browser.Options{Width: 390, Height: 844})
	phone("the usage, narrow", browser.SignIn(s.URL), chromedp.Navigate(s.URL+"/usage"), browser.Text("What was charged"), browser.Seen(".chart svg"))
	do("a payment is refused", browser.Fill("Checks", "77"), browser.Text("Total EUR"), browser.Press("Pay EUR"), browser.Text("This is not a real payment"), browser.Press("Refuse"), browser.Text("refused: the account has too little"))
	if cashier.Payments() != payments+1 || cashier.State(payments) != "refused" {
		t.Error("the stand-in knows of another payment")
	}
	do("the statement", browser.Press("Setup"), browser.Press("Usage"), browser.Text("Held at the beginning"), browser.Text("to try it out"), browser.Text("Bought by refill"))
	statementAddsUp(t, api)
	invoiceIs(t, api, s)
	attacks(t, api, s, i.World)
	right(t, api)
}

// newest is the newest list with its last run.
func newest(t *testing.T, api *client.Client) (contract.List, contract.Run) {
	t.Helper()
	runs, err := newestRuns(t.Context(), api)
	if err != nil || len(runs) == 0 {
		t.Fatal(err)
	}
	r, err := api.Wait(t.Context(), runs[0].ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}
	l, err := api.List(t.Context(), r.ListID)
	if err != nil {
		t.Fatal(err)
	}
	return l, r
}

// statementAddsUp adds the statement up by hand, as CSV.
func statementAddsUp(t *testing.T, api *client.Client) {
	t.Helper()
	var file bytes.Buffer
	if err := api.StatementFile(t.Context(), time.Now().UTC().Format("2006-01"), "csv", &file); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&file).ReadAll()
	if err != nil || len(rows) < 5 {
		t.Fatal(rows, err)
	}
	sum := int64(0)
	for _, r := range rows[2:] {
		var amount, balance int64
		if _, err := fmt.Sscan(r[3]+" "+r[4], &amount, &balance); err != nil {
			t.Fatal(err)
		}
		if sum += amount; sum != balance {
			t.Errorf("%v: the sum is %d", r, sum)
		}
	}
	if a := held(t, api); a.Available != sum {
		t.Errorf("%d are available, and the statement ends with %d", a.Available, sum)
	}
	var pdf bytes.Buffer
	if err := api.StatementFile(t.Context(), time.Now().UTC().Format("2006-01"), "pdf", &pdf); err != nil || !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) {
		t.Errorf("the statement as PDF: %v", err)
	}
}

// invoiceIs fetches an invoice, which nobody else sees.
func invoiceIs(t *testing.T, api *client.Client, s *testkit.Service) {
	t.Helper()
	var pdf bytes.Buffer
	if err := api.Invoice(t.Context(), 1, false, &pdf); err != nil || !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) || pdf.Len() < 5000 {
		t.Errorf("the invoice has %d bytes: %v", pdf.Len(), err)
	}
	if err := api.Invoice(t.Context(), 3, false, io.Discard); status(err) != http.StatusConflict {
		t.Errorf("the invoice of a purchase that was refused: %v", err)
	}
	if err := api.Invoice(t.Context(), 1, true, io.Discard); status(err) != http.StatusConflict {
		t.Errorf("the credit note of a purchase that is paid: %v", err)
	}
	if err := neighbours(t, s, "the parish").Invoice(t.Context(), 1, false, io.Discard); status(err) != http.StatusNotFound {
		t.Errorf("another workspace's invoice: %v", err)
	}
}

// attacks tries to have checks without paying.
func attacks(t *testing.T, api *client.Client, s *testkit.Service, w *practice.World) {
	t.Helper()
	ctx, before := t.Context(), held(t, api).Available
	if _, err := api.Buy(ctx, contract.PurchaseOrder{Checks: 10}); status(err) != http.StatusForbidden {
		t.Errorf("a key buys: %v", err)
	}
	// What a stranger sends as the provider, unsigned and with a signature of its own.
	for _, header := range []map[string]string{{}, {"webhook-id": "x", "webhook-timestamp": fmt.Sprint(time.Now().Unix()), "webhook-signature": "v1,AAAA"}} {
		r, _ := http.NewRequestWithContext(ctx, http.MethodPost, s.URL+"/api/v1/payment-calls", strings.NewReader(`{"reference":"x","payment":"y","kind":"paid","amount":1,"currency":"EUR"}`))
		r.Header.Set("Content-Type", "application/json")
		for name, value := range header {
			r.Header.Set(name, value)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		if _ = answer.Body.Close(); answer.StatusCode != http.StatusUnauthorized {
			t.Errorf("a forged call: %s", answer.Status)
		}
	}
	for _, n := range []int64{0, -1, -1 << 62, 1<<63 - 1, 1_000_000_001} {
		if _, err := api.Price(ctx, contract.PriceQuestion{Checks: n}); status(err) != http.StatusUnprocessableEntity {
			t.Errorf("%d checks have a price: %v", n, err)
		}
	}
	for _, n := range []int64{-before - 1, 1<<63 - 1, -1 << 63, 1_000_000_000_000} {
		if _, err := api.GrantChecks(ctx, 1, contract.NewGrant{Checks: n}); err == nil {
			t.Errorf("%d checks are granted", n)
		}
	}
	if _, err := neighbours(t, s, "the parish").Accounts(ctx); err == nil {
		t.Error("a key of another workspace sees all accounts")
	}
	// Two tabs start a run each, with enough for one.
	l := imported(t, api, w, "again.csv", 60)
	if _, err := api.GrantChecks(ctx, 1, contract.NewGrant{Checks: l.Addresses - before, Note: "enough for one"}); l.Addresses != before && err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	begun := 0
	for range 2 {
		wg.Go(func() {
			if _, err := api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox"}); err == nil {
				mu.Lock()
				defer mu.Unlock()
				begun++
			} else if status(err) != http.StatusConflict {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if begun != 1 {
		t.Errorf("%d of 2 runs begin with enough for one", begun)
	}
	newest(t, api)
	held(t, api)
}

// TestAllowanceSurvives kills the service in the middle of a run and of single checks, and stops a run:
// what was charged is what is conclusive, and all else is given back.
func TestAllowanceSurvives(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	keptBy(t, s, api, clubs)
	const given = 100_000
	if _, err := api.GrantChecks(ctx, 1, contract.NewGrant{Checks: given}); err != nil {
		t.Fatal(err)
	}
	_, content := writeList(t, i.World, rows)
	run := start(t, api, content)
	waitForTheMiddle(t, api, run.ID)
	_ = s.Signal(syscall.SIGKILL)
	s.Start(t)
	if _, err := api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	cost := conclusive(t, api, run.ID)
	if a := held(t, api); a.Available != given-cost || cost == 0 {
		t.Errorf("after the kill %d of %d checks are left, and %d addresses are conclusive", a.Available, int64(given), cost)
	}
	// A run that is stopped in its middle.
	l, err := api.List(ctx, run.ListID)
	if err != nil {
		t.Fatal(err)
	}
	second, err := api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Urgent: true})
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, func() (bool, string) { // what planning concludes costs nothing
		return conclusive(t, api, second.ID) > 0, "nothing of the second run is conclusive"
	})
	inTheMiddle(t, api, second.ID)
	if _, err := api.StopRun(ctx, second.ID); err != nil {
		t.Fatal(err)
	}
	a := held(t, api)
	if urgent := 2 * conclusive(t, api, second.ID); a.Available != given-cost-urgent || urgent == 0 {
		t.Errorf("after the stop %d checks are left, and the urgent run took %d", a.Available, urgent)
	}
	cost += 2 * conclusive(t, api, second.ID)
	found, err := api.Check(ctx, []string{"ada.moss@fernhollow.example", "ada.moss@longgone.example", "ada.moss@longgone.example"})
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range found[:2] {
		if stage := finding.Cause(e.Cause).Stage(); e.Finding != finding.Undecided && stage != finding.StageDomain {
			cost++
		}
	}
	if a = held(t, api); a.Available != given-cost {
		t.Errorf("after single checks %d are left, not %d", a.Available, given-cost)
	}
	if err := api.DeleteList(ctx, l.ID); err != nil {
		t.Fatal(err)
	}
	if a = held(t, api); a.Available != given-cost {
		t.Errorf("after the list is deleted %d are left, not %d", a.Available, given-cost)
	}
	used, err := api.Usage(ctx, "run", "", "")
	if err != nil || used.Sum != cost || len(used.Items) != 3 {
		t.Errorf("usage: %+v, %v; it took %d", used, err, cost)
	}
	right(t, api)
}

// TestAllowanceOfRoutine: a routine that may take more than is left waits for a person, and goes on once
// there is enough; what it takes is told by routine. Free estimates of a day are bounded.
func TestAllowanceOfRoutine(t *testing.T) {
	t.Parallel()
	i, folder := testkit.World(t, "fernhollow"), t.TempDir()
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_ROUTINE_FOLDER="+folder))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	terms := clubs
	terms.EstimatesADay = 1
	keptBy(t, s, api, terms)
	if _, err := api.GrantChecks(ctx, 1, contract.NewGrant{Checks: 10}); err != nil {
		t.Fatal(err)
	}
	header, lines, _ := people(t, i.World, 60)
	own := filepath.Join(folder, "1")
	if err := os.MkdirAll(own, 0o750); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(own, "members.csv"), []byte(header+strings.Join(lines, "")), 0o640); err != nil {
		t.Fatal(err)
	}
	r, err := api.MakeRoutine(ctx, contract.NewRoutine{Name: "Members", RoutineSpec: contract.RoutineSpec{Source: "folder", File: "mem*.csv", Rule: "FREQ=DAILY", Time: "03:00", Zone: "UTC",
		Ages: map[string]int{"deliverable": 30}, Policy: "careful", Then: "nothing", Tell: "always"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := api.RunRoutine(ctx, r.ID, false); err != nil {
		t.Fatal(err)
	}
	at := ended(t, api, r.ID, 1)
	if at.State != "held" || !strings.Contains(at.Says, "50 more are needed") {
		t.Fatalf("with too little it is %s: %s", at.State, at.Says)
	}
	if _, err := api.GrantChecks(ctx, 1, contract.NewGrant{Checks: 90}); err != nil {
		t.Fatal(err)
	}
	if _, err := api.DecideRoutine(ctx, r.ID, 1, true); err != nil {
		t.Fatal(err)
	}
	eventually(t, 60*time.Second, func() (bool, string) {
		r, err := api.Routine(ctx, r.ID)
		if err != nil {
			t.Fatal(err)
		}
		return r.Last.State == "done", r.Last.State + ": " + r.Last.Says
	})
	used, err := api.Usage(ctx, "routine", "", "")
	if err != nil || len(used.Items) != 1 || used.Items[0].ID != r.ID || used.Items[0].Label != "Members" || used.Sum != 100-held(t, api).Available {
		t.Errorf("usage by routine: %+v, %v", used, err)
	}
	l := imported(t, api, i.World, "few.csv", 30)
	if _, err := api.Estimate(ctx, l.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := api.Estimate(ctx, l.ID); status(err) != http.StatusConflict || !strings.Contains(err.Error(), "1 free estimate a day") {
		t.Errorf("a second estimate: %v", err)
	}
	right(t, api)
}
