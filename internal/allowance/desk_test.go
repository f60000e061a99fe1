package allowance_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
	"varnet/core/finding"
	"varnet/core/ledger"
	"varnet/internal/allowance"
	"varnet/internal/pay"
	"varnet/internal/practice"
	"varnet/internal/store"
	"varnet/internal/store/storetest"
	"varnet/internal/testkit"
	"varnet/internal/webhook"
)

// office is a desk with a database, a workspace, a clock that is set by hand, and a payment provider
// whose calls it takes.
type office struct {
	*allowance.Desk
	t         *testing.T
	workspace int64
	cashier   *practice.Cashier
	base      string
	mu        sync.Mutex
	now       time.Time
	told      []event.Event
}

var plan = ledger.Plan{Name: "Clubs", Costs: ledger.Costs{Mailbox: 1}, Urgent: 2, SubscriptionOff: 10,
	Prices: ledger.Prices{Currency: "EUR", Steps: []ledger.Step{{UpTo: 10_000, PerThousand: 400}, {PerThousand: 300}}}}

func open(t *testing.T, p ledger.Plan) *office {
	t.Helper()
	ctx := t.Context()
	s := storetest.Open(t)
	o := &office{t: t, now: time.Now().UTC().Truncate(time.Second)}
	o.Desk = &allowance.Desk{Store: s, Secrets: testkit.Secrets(t), Now: o.clock, Log: slog.New(slog.DiscardHandler), Happened: func(_ context.Context, _ *store.Store, _ pgx.Tx, e event.Event) error {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.told = append(o.told, e)
		return nil
	}}
	w, err := s.NewWorkspace(ctx, "Fernhollow Seed Library")
	if err != nil {
		t.Fatal(err)
	}
	o.workspace = w.ID
	if o.cashier, err = practice.StartCashier("127.0.0.1:0", practice.PaymentSecret); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(o.cashier.Close)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if err := o.Take(r.Context(), r.Header, body); err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		}
	}))
	t.Cleanup(service.Close)
	o.base = service.URL
	seller := store.Party{Name: "Bramble and Rook", Lines: []string{"1 Quay Street"}, Country: "GB"}
	o.must(s.SetBilling(ctx, store.Billing{Provider: o.cashier.URL, SecretSealed: o.SealSecret(practice.PaymentSecret), Seller: &seller, Taxes: []ledger.TaxRate{{Country: "GB", Name: "VAT", Rate: 2000}}}))
	id, err := s.SavePlanTerms(ctx, 0, p)
	o.must(err)
	o.must(o.Keep(ctx, o.workspace, id))
	o.must(o.Set(ctx, o.workspace, allowance.Settings{Buyer: buyer}))
	return o
}

var buyer = &store.Party{Name: "Fernhollow Seed Library", Lines: []string{"3 Mill Lane"}, Country: "GB"}

func (o *office) clock() time.Time {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.now
}

func (o *office) later(d time.Duration) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.now = o.now.Add(d)
}

func (o *office) must(err error) {
	o.t.Helper()
	if err != nil {
		o.t.Fatal(err)
	}
}

// happened counts the events of a kind.
func (o *office) happened(c event.Code) (n int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, e := range o.told {
		if e.Code == c {
			n++
		}
	}
	return n
}

func (o *office) reserve(n int64) (store.Reservation, error) {
	var r store.Reservation
	err := o.Store.InTx(o.t.Context(), func(s *store.Store, tx pgx.Tx) (err error) {
		r, err = o.Reserve(o.t.Context(), s, tx, allowance.Order{Workspace: o.workspace, What: store.ForRun, List: "Members", Addresses: n, Depth: "mailbox"})
		return err
	})
	return r, err
}

func (o *office) charge(r store.Reservation, n int64) {
	o.t.Helper()
	b := &ledger.Book{}
	b.Charge(r.ID, n)
	o.must(o.Store.SaveBook(o.t.Context(), o.workspace, b, "", o.clock()))
}

func (o *office) end(r store.Reservation) {
	o.t.Helper()
	o.must(o.Store.InTx(o.t.Context(), func(s *store.Store, tx pgx.Tx) error { return o.Close(o.t.Context(), s, tx, r) }))
}

func (o *office) available() int64 {
	o.t.Helper()
	all, err := o.Store.Availables(o.t.Context())
	o.must(err)
	return all[o.workspace]
}

// right verifies the book.
func (o *office) right() {
	o.t.Helper()
	v, err := o.Verify(o.t.Context())
	o.must(err)
	if len(v.Problems) > 0 {
		o.t.Fatal(v.Says())
	}
}

// until waits for something that comes by a call of the provider.
func (o *office) until(what string, holds func() bool) {
	o.t.Helper()
	for range 200 {
		if holds() {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	o.t.Fatal(what + " does not come")
}

// TestAsBook has random operations done by the desk, through PostgreSQL, and by a book in memory,
// which core/ledger's tests hold against a naive model; transactions that break off leave nothing.
func TestAsBook(t *testing.T) {
	t.Parallel()
	o := open(t, plan)
	seed := uint64(time.Now().UnixNano())
	t.Log("seed", seed)
	rnd := rand.New(rand.NewPCG(seed, 2))
	b := &ledger.Book{}
	open := map[int64]*struct {
		store.Reservation
		held    ledger.Reservation
		charged int64
	}{}
	lots, sum := int64(0), map[ledger.Account]int64{}
	broken := errors.New("it breaks off")
	for op := range 1500 {
		var some int64
		if ids := slices.Sorted(maps.Keys(open)); len(ids) > 0 {
			some = ids[rnd.IntN(len(ids))]
		}
		switch rnd.IntN(10) {
		case 0, 1:
			lots++
			l := ledger.Lot{ID: lots, Source: ledger.Granted, Left: 1 + rnd.Int64N(60)}
			if rnd.IntN(2) == 0 {
				l.ExpiresAt = o.clock().Add(time.Duration(1+rnd.IntN(72)) * time.Hour)
			}
			b.Expire(o.clock())
			o.must(b.Add(l, ledger.Grant))
			o.must(o.Grant(t.Context(), o.workspace, l.Left, l.ExpiresAt, "for the seed fair"))
		case 2, 3, 4:
			n := rnd.Int64N(b.Balance()*5/4 + 10)
			r, err := o.reserve(n)
			held, want := b.Reserve(r.ID, n, o.clock())
			if (err == nil) != (want == nil) {
				t.Fatalf("operation %d: %d are reserved: %v, and by the book %v", op, n, err, want)
			}
			if err == nil {
				open[r.ID] = &struct {
					store.Reservation
					held    ledger.Reservation
					charged int64
				}{r, held, 0}
			} else { // what expired on the way was rolled back with it
				_, _ = o.reserve(0)
			}
		case 5, 6:
			if r := open[some]; r != nil {
				n := max(rnd.Int64N(r.Reserved+2)-3, -r.charged-2)
				n = min(n, r.Reserved+1-r.charged)
				o.charge(r.Reservation, n)
				b.Charge(some, n)
				r.charged += n
			}
		case 7:
			if r := open[some]; r != nil {
				o.end(r.Reservation)
				if owed := b.Close(r.held, r.charged, o.clock()); owed > 0 {
					lots++
					b.Return(ledger.Lot{ID: lots, Source: ledger.Granted, Left: owed}, some)
				}
				delete(open, some)
				if rnd.IntN(3) == 0 {
					o.end(r.Reservation) // once more changes nothing
				}
			}
		case 8: // a start that breaks off
			err := o.Store.InTx(t.Context(), func(s *store.Store, tx pgx.Tx) error {
				if _, err := o.Reserve(t.Context(), s, tx, allowance.Order{Workspace: o.workspace, What: store.ForRun, Addresses: b.Balance() / 2, Depth: "mailbox"}); err != nil {
					return err
				}
				return broken
			})
			if !errors.Is(err, broken) && err != nil {
				var short *ledger.Short
				if !errors.As(err, &short) {
					t.Fatal(err)
				}
			}
		case 9:
			o.later(time.Duration(rnd.IntN(600)) * time.Minute)
		}
		for a, n := range ledger.Balances(b.Entries) {
			sum[a] += n
		}
		b.Entries = nil
		got, err := o.Store.Balances(t.Context(), o.workspace)
		o.must(err)
		for _, a := range ledger.Accounts() {
			if a == ledger.Available || a == ledger.Expired {
				continue // what expires is written down a little later: see below
			}
			if got[a] != sum[a] {
				t.Fatalf("operation %d: %s is %d, and by the book %d", op, a, got[a], sum[a])
			}
		}
		if got[ledger.Available]+got[ledger.Expired] != sum[ledger.Available]+sum[ledger.Expired] {
			t.Fatalf("operation %d: available and expired are %d, and by the book %d", op, got[ledger.Available]+got[ledger.Expired], sum[ledger.Available]+sum[ledger.Expired])
		}
		if op%200 == 0 {
			o.right()
		}
	}
	for id, r := range open {
		o.end(r.Reservation)
		if owed := b.Close(r.held, r.charged, o.clock()); owed > 0 {
			lots++
			b.Return(ledger.Lot{ID: lots, Source: ledger.Granted, Left: owed}, id)
		}
	}
	o.must(o.Due(t.Context()))
	b.Expire(o.clock())
	if got := o.available(); got != b.Balance() {
		t.Errorf("%d are available, and by the book %d", got, b.Balance())
	}
	o.right()
}

// TestRace: 60 runs of 2 checks each, all at once, on the last 100 checks: 50 begin, and 0 are left.
func TestRace(t *testing.T) {
	t.Parallel()
	o := open(t, plan)
	o.must(o.Grant(t.Context(), o.workspace, 100, time.Time{}, ""))
	o.must(o.Set(t.Context(), o.workspace, allowance.Settings{Low: 10, Buyer: buyer}))
	var wg sync.WaitGroup
	var mu sync.Mutex
	begun, short := 0, 0
	for range 60 {
		wg.Go(func() {
			_, err := o.reserve(2)
			mu.Lock()
			defer mu.Unlock()
			var s *ledger.Short
			switch {
			case err == nil:
				begun++
			case errors.As(err, &s) && s.Missing() == 2:
				short++
			default:
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if left := o.available(); begun != 50 || short != 10 || left != 0 {
		t.Errorf("%d begin, %d are refused, %d are left", begun, short, left)
	}
	if n := o.happened(event.AllowanceLow); n != 1 {
		t.Errorf("that few are left is told %d times", n)
	}
	o.right()
}

// TestSettle: single checks are charged for what is known, and given back for what is not or came by
// messages of one's own.
func TestSettle(t *testing.T) {
	t.Parallel()
	o := open(t, plan)
	o.must(o.Grant(t.Context(), o.workspace, 5, time.Time{}, ""))
	person := int64(1)
	r, err := o.Single(t.Context(), o.workspace, store.By{PersonID: &person}, 4)
	o.must(err)
	if left := o.available(); left != 1 {
		t.Errorf("%d are left while 4 are set aside", left)
	}
	found := []finding.Verdict{finding.ConcludeFrom(finding.MailboxAccepted, nil), finding.ConcludeFrom(finding.MailboxAbsent, nil), finding.ConcludeFrom(finding.RuleDepth, nil), finding.ConcludeFrom(finding.MailboxBounced, nil)}
	for range 2 { // once more changes nothing
		o.must(o.Settle(t.Context(), r, found))
	}
	if left := o.available(); left != 3 {
		t.Errorf("%d are left after two that were known", left)
	}
	if _, err = o.Single(t.Context(), o.workspace, store.By{}, 4); err == nil {
		t.Error("4 checks begin with 3 left")
	}
	// One that a process left behind is given back.
	r, err = o.Single(t.Context(), o.workspace, store.By{}, 3)
	o.must(err)
	o.later(time.Hour)
	o.must(o.CloseEnded(t.Context(), 0))
	o.must(o.Settle(t.Context(), r, found)) // it was slow, and not dead
	if left := o.available(); left != 3 {
		t.Errorf("%d are left after a check that nobody ended", left)
	}
	o.right()
}

// TestSettleTogether: checks that are charged at the same time, and whatever else closes them, leave what they did not
// use in the lots it came from, also where no allowance is kept any more.
func TestSettleTogether(t *testing.T) {
	t.Parallel()
	o := open(t, plan)
	for range 4 { // each check takes of two lots
		o.must(o.Grant(t.Context(), o.workspace, 5, time.Time{}, ""))
	}
	var open []store.Reservation
	for range 3 {
		r, err := o.Single(t.Context(), o.workspace, store.By{}, 6)
		o.must(err)
		open = append(open, r)
	}
	o.must(o.Keep(t.Context(), o.workspace, 0))
	var all sync.WaitGroup
	for _, r := range open {
		for range 3 {
			all.Go(func() {
				if err := o.Settle(t.Context(), r, []finding.Verdict{finding.ConcludeFrom(finding.MailboxAccepted, nil)}); err != nil {
					t.Error(err)
				}
			})
		}
		all.Go(func() {
			if err := o.Store.InTx(t.Context(), func(s *store.Store, tx pgx.Tx) error { return o.Close(t.Context(), s, tx, open[0]) }); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	// The first is closed by whoever was there first, with a charge or without.
	if left := o.available(); left != 17 && left != 18 {
		t.Errorf("%d of 20 are left after three checks", left)
	}
	o.right()
}

// TestLimits: a plan bounds days, persons, keys and urgent runs.
func TestLimits(t *testing.T) {
	t.Parallel()
	p := plan
	p.Limits, p.Urgent = ledger.Limits{Day: 50, PersonDay: 30, KeyDay: 10}, 0
	o := open(t, p)
	o.must(o.Grant(t.Context(), o.workspace, 1000, time.Time{}, ""))
	ada, key := int64(1), int64(7)
	for _, c := range []struct {
		by   store.By
		n    int
		want string
	}{{store.By{PersonID: &ada}, 30, ""}, {store.By{PersonID: &ada}, 1, "You may use 30"}, {store.By{KeyID: &key}, 11, "This key"}, {store.By{KeyID: &key}, 10, ""}, {store.By{}, 11, "This workspace"}, {store.By{}, 10, ""}} {
		_, err := o.Single(t.Context(), o.workspace, c.by, c.n)
		if why, hinders := allowance.Hinders(err); hinders != (c.want != "") || !strings.Contains(why, c.want) {
			t.Errorf("%d checks: %v, not %q", c.n, err, c.want)
		}
	}
	o.later(24 * time.Hour)
	if _, err := o.Single(t.Context(), o.workspace, store.By{PersonID: &ada}, 30); err != nil {
		t.Errorf("on the next day: %v", err)
	}
	err := o.Store.InTx(t.Context(), func(s *store.Store, tx pgx.Tx) error {
		_, err := o.Reserve(t.Context(), s, tx, allowance.Order{Workspace: o.workspace, What: store.ForRun, Addresses: 1, Depth: "mailbox", Urgent: true})
		return err
	})
	if why, _ := allowance.Hinders(err); !strings.Contains(why, "no urgent runs") {
		t.Errorf("an urgent run without a plan for it: %v", err)
	}
}

// TestGrants: the plan grants each month, once, and what is not used of it is gone with the next.
func TestGrants(t *testing.T) {
	t.Parallel()
	p := plan
	p.Grant, p.Keep = 500, 1
	o := open(t, p)
	if left := o.available(); left != 500 {
		t.Fatalf("the first grant is %d", left)
	}
	r, err := o.reserve(200)
	o.must(err)
	o.charge(r, 150)
	o.end(r)
	for range 3 {
		o.must(o.Due(t.Context()))
	}
	if left := o.available(); left != 350 {
		t.Errorf("%d are left before the month is over", left)
	}
	plans, err := o.Store.AllowancePlans(t.Context())
	o.must(err)
	for _, id := range []int64{0, 0, plans[0].ID} { // none is kept for a while
		o.must(o.Keep(t.Context(), o.workspace, id))
	}
	if left := o.available(); left != 350 {
		t.Errorf("%d are left after none was kept for a while", left)
	}
	o.later(40 * 24 * time.Hour)
	o.must(o.Due(t.Context()))
	if left := o.available(); left != 500 {
		t.Errorf("%d are left in the second month, not 500", left)
	}
	o.later(400 * 24 * time.Hour) // the service was down for a year
	o.must(o.Due(t.Context()))
	if left := o.available(); left != 500 {
		t.Errorf("%d are left after a year, not 500", left)
	}
	o.right()
}

// TestNewWorkspace: new workspaces get the plan that the installation has for them, and no other can be deleted.
func TestNewWorkspace(t *testing.T) {
	t.Parallel()
	p := plan
	p.Grant = 500
	o := open(t, p)
	plans, err := o.Store.AllowancePlans(t.Context())
	o.must(err)
	b, err := o.Store.Billing(t.Context())
	o.must(err)
	b.DefaultPlan = &plans[0].ID
	o.must(o.Store.SetBilling(t.Context(), b))
	w, err := o.Store.NewWorkspace(t.Context(), "The parish")
	o.must(err)
	o.later(time.Minute)
	o.must(o.Due(t.Context()))
	st, kept, err := o.Stands(t.Context(), w.ID)
	if err != nil || !kept || st.Available != 500 {
		t.Errorf("a new workspace has %d checks (%v): %v", st.Available, kept, err)
	}
	o.must(o.Keep(t.Context(), w.ID, 0))
	o.must(o.Keep(t.Context(), o.workspace, 0))
	if err := o.Store.ArchivePlan(t.Context(), plans[0].ID); !errors.Is(err, store.ErrPlanUsed) {
		t.Errorf("the plan of new workspaces is deleted: %v", err)
	}
}

// call signs a call of the provider.
func call(id string, c pay.Call, secret string) (http.Header, []byte) {
	body, _ := json.Marshal(c)
	h := http.Header{}
	_ = webhook.Sign(h, id, time.Now(), body, secret)
	return h, body
}

// TestCalls: however calls come, a purchase is credited once; what is forged, replayed, of another
// amount or of no purchase changes nothing.
func TestCalls(t *testing.T) {
	t.Parallel()
	o := open(t, plan)
	p, err := o.Buy(t.Context(), allowance.Buying{Workspace: o.workspace, Checks: 12_345, Why: ledger.TopUp, Person: 1, Base: o.base, Back: "/purchases"})
	o.must(err)
	if p.Net != 4000+704 || p.Tax.Amount != 941 || p.Total != 5645 {
		t.Errorf("12,345 checks cost %d and %d of tax: %+v", p.Net, p.Tax.Amount, p.Lines)
	}
	paid := pay.Call{Reference: p.Reference, Payment: "p1", Kind: ledger.CallPaid, Amount: p.Total, Currency: "EUR"}
	other := func(change func(*pay.Call)) pay.Call {
		c := paid
		change(&c)
		return c
	}
	for what, c := range map[string]pay.Call{
		"another amount":   other(func(c *pay.Call) { c.Amount-- }),
		"a negative one":   other(func(c *pay.Call) { c.Amount = -c.Amount }),
		"another currency": other(func(c *pay.Call) { c.Currency = "JPY" }),
		"no purchase":      other(func(c *pay.Call) { c.Reference = "elsewhere" }),
		"no payment":       other(func(c *pay.Call) { c.Payment = "" }),
		"another kind":     other(func(c *pay.Call) { c.Kind = "given" }),
	} {
		h, body := call(what, c, practice.PaymentSecret)
		if err := o.Take(t.Context(), h, body); err == nil || o.available() != 0 {
			t.Errorf("%s: %v, and %d are available", what, err, o.available())
		}
	}
	h, body := call("forged", paid, webhook.NewSecret())
	var forged *allowance.Forged
	if err := o.Take(t.Context(), h, body); !errors.As(err, &forged) {
		t.Errorf("a forged call: %v", err)
	}
	h, _ = call("c1", other(func(c *pay.Call) { c.Kind = ledger.CallRefused }), practice.PaymentSecret)
	_, body = call("c1", paid, practice.PaymentSecret)
	if err := o.Take(t.Context(), h, body); !errors.As(err, &forged) {
		t.Errorf("the signature of another call: %v", err)
	}
	h.Set(webhook.Timestamp, fmt.Sprint(time.Now().Add(-time.Hour).Unix()))
	if err := o.Take(t.Context(), h, body); !errors.As(err, &forged) {
		t.Errorf("an old call: %v", err)
	}
	var wg sync.WaitGroup
	for i := range 24 { // the same call many times, and other calls about the same payment
		wg.Go(func() {
			h, body := call(fmt.Sprintf("c%d", i%3), paid, practice.PaymentSecret)
			if err := o.Take(context.Background(), h, body); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if left := o.available(); left != 12_345 {
		t.Errorf("%d are available, not 12,345", left)
	}
	r, err := o.reserve(12_000)
	o.must(err)
	o.charge(r, 11_000)
	o.end(r)
	h, body = call("back", other(func(c *pay.Call) { c.Kind = ledger.CallChargedBack }), practice.PaymentSecret)
	o.must(o.Take(t.Context(), h, body))
	if left := o.available(); left != 0 {
		t.Errorf("%d are left after the payment was charged back", left)
	}
	p, err = o.Store.Purchase(t.Context(), o.workspace, p.ID)
	o.must(err)
	if p.State != ledger.ChargedBack || p.Withdrawn != 1345 || p.Invoice == nil || p.CreditNote == nil {
		t.Errorf("the purchase: %+v", p)
	}
	if _, err := o.Store.Purchase(t.Context(), o.workspace+1, p.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another workspace sees the purchase: %v", err)
	}
	o.right()
}

// TestCashier: what the stand-in of the provider can do comes out right, and invoices are numbered
// without a gap.
func TestCashier(t *testing.T) {
	t.Parallel()
	o := open(t, plan)
	for _, c := range []struct {
		act   string
		state ledger.State
		adds  int64
		bills int64
	}{{"pay", ledger.Paid, 1000, 1}, {"refuse", ledger.Refused, 0, 1}, {"told-twice", ledger.Paid, 1000, 2}, {"twice", ledger.Paid, 1000, 3}, {"back-first", ledger.ChargedBack, 0, 3}, {"wrong", ledger.Open, 0, 3}} {
		before := o.available()
		p, err := o.Buy(t.Context(), allowance.Buying{Workspace: o.workspace, Checks: 1000, Why: ledger.TopUp, Person: 1, Base: o.base})
		o.must(err)
		if !strings.HasPrefix(p.Page, o.cashier.URL) {
			t.Errorf("it is paid at %q", p.Page)
		}
		o.cashier.Act(c.act)
		o.until(c.act, func() bool {
			now, err := o.Store.Purchase(t.Context(), o.workspace, p.ID)
			o.must(err)
			return now.State == c.state
		})
		if c.act == "twice" || c.act == "told-twice" || c.act == "back-first" {
			time.Sleep(1200 * time.Millisecond) // the second call
		}
		if got := o.available() - before; got != c.adds {
			t.Errorf("%s adds %d checks, not %d", c.act, got, c.adds)
		}
		var bills int64
		all, err := o.Store.Purchases(t.Context(), 0, 0, 100)
		o.must(err)
		for _, p := range all {
			if p.Invoice != nil {
				bills = max(bills, *p.Invoice)
			}
		}
		if bills != c.bills {
			t.Errorf("after %s the last invoice is %d, not %d", c.act, bills, c.bills)
		}
		if c.act == "twice" {
			o.until("the second payment back", func() bool { return o.cashier.State(o.cashier.Payments()-1) == "paid back" })
		}
	}
	o.right()
}

// TestPayBack: a purchase is paid back once the provider says so; what is left of its checks is withdrawn, and
// only one that is paid can be.
func TestPayBack(t *testing.T) {
	t.Parallel()
	o := open(t, plan)
	p, err := o.Buy(t.Context(), allowance.Buying{Workspace: o.workspace, Checks: 1000, Why: ledger.TopUp, Person: 1, Base: o.base})
	o.must(err)
	if why, hinders := allowance.Hinders(o.PayBack(t.Context(), p.ID)); !hinders || !strings.Contains(why, "is open") {
		t.Errorf("a purchase that is not paid is paid back: %q", why)
	}
	o.cashier.Act("pay")
	o.until("the purchase", func() bool { return o.available() == 1000 })
	r, err := o.reserve(400)
	o.must(err)
	o.charge(r, 300)
	o.must(o.PayBack(t.Context(), p.ID)) // while 400 are set aside
	// The event is counted before the transaction that it belongs to is over.
	o.until("the money", func() bool { return o.happened(event.PurchaseBack) == 1 && o.available() == 0 })
	if left := o.available(); left != 0 {
		t.Errorf("%d are left", left)
	}
	p, err = o.Store.Purchase(t.Context(), o.workspace, p.ID)
	o.must(err)
	if p.State != ledger.PaidBack || p.Withdrawn != 600 || p.CreditNote == nil || *p.CreditNote != 1 {
		t.Errorf("the purchase: %+v", p)
	}
	o.end(r)
	if left := o.available(); left != 0 {
		t.Errorf("%d come back of a purchase that was paid back", left)
	}
	o.right()
}

// TestByItself: a refill comes under its threshold, at most so often, with an event each time; a
// subscription comes each month and can be ended; a refused one is told.
func TestByItself(t *testing.T) {
	t.Parallel()
	o := open(t, plan)
	due := func() { o.must(o.BuyDue(t.Context(), o.base)) }
	if err := o.Set(t.Context(), o.workspace, allowance.Settings{Refill: &ledger.RefillRule{Under: 100, Buy: 500, Most: 2}, Buyer: buyer}); err == nil {
		t.Error("a refill is set without a payment method")
	}
	_, err := o.Buy(t.Context(), allowance.Buying{Workspace: o.workspace, Checks: 150, Why: ledger.TopUp, Person: 1, Remember: true, Base: o.base})
	o.must(err)
	o.cashier.Act("pay")
	o.until("the purchase", func() bool { return o.available() == 150 })
	o.must(o.Set(t.Context(), o.workspace, allowance.Settings{Refill: &ledger.RefillRule{Under: 100, Buy: 500, Most: 2}, Buyer: buyer}))
	due()
	if left := o.available(); left != 150 {
		t.Errorf("%d are available: it was refilled too soon", left)
	}
	use := func(n int64) {
		r, err := o.reserve(n)
		o.must(err)
		o.charge(r, n)
		o.end(r)
	}
	use(100)
	due()
	o.until("the refill", func() bool { return o.available() == 550 })
	use(500)
	due()
	due() // while it waits for its payment, none is bought
	o.until("the second refill", func() bool { return o.available() == 550 })
	use(500)
	due()
	time.Sleep(300 * time.Millisecond)
	if left := o.available(); left != 50 || o.happened(event.PurchasePaid) != 3 {
		t.Errorf("%d are available after two refills, and %d purchases were told", left, o.happened(event.PurchasePaid))
	}
	if n, err := o.Reseal(t.Context()); err != nil || n != 2 {
		t.Errorf("%d secrets were sealed anew, not that of the provider and the payment method: %v", n, err)
	}
	o.cashier.Refuse(true)
	o.later(31 * 24 * time.Hour)
	due()
	o.until("that it is refused", func() bool { return o.happened(event.PurchaseRefused) == 1 })
	due() // it is not tried again on the same day
	time.Sleep(200 * time.Millisecond)
	if n := o.happened(event.PurchaseRefused); n != 1 {
		t.Errorf("it is tried again at once: %d were refused", n)
	}
	o.cashier.Refuse(false)
	o.must(o.Set(t.Context(), o.workspace, allowance.Settings{Subscription: 1000, Buyer: buyer}))
	due()
	o.until("the first month", func() bool { return o.available() == 1050 })
	due()
	o.later(31 * 24 * time.Hour)
	due()
	o.until("the second month", func() bool { return o.available() == 2050 })
	o.must(o.Set(t.Context(), o.workspace, allowance.Settings{Buyer: buyer}))
	o.later(62 * 24 * time.Hour)
	due()
	all, err := o.Store.Purchases(t.Context(), o.workspace, 0, 1)
	o.must(err)
	if left := o.available(); left != 2050 || all[0].Net != 360 {
		t.Errorf("%d are available after the subscription ended, and a month of it cost %d", left, all[0].Net)
	}
	o.right()
}

// TestStays: what is in the ledger cannot be changed.
func TestStays(t *testing.T) {
	t.Parallel()
	o := open(t, plan)
	o.must(o.Grant(t.Context(), o.workspace, 100, time.Time{}, ""))
	if err := o.Grant(t.Context(), o.workspace, -101, time.Time{}, ""); err == nil {
		t.Error("more is taken away than there is")
	}
	o.must(o.Grant(t.Context(), o.workspace, -40, time.Time{}, "given by mistake"))
	st, err := o.StatementOf(t.Context(), o.workspace, o.clock(), time.UTC)
	o.must(err)
	if st.Before != 0 || st.After != 60 || len(st.Lines) != 2 || !strings.Contains(st.Lines[1].Says, "given by mistake") {
		t.Errorf("the statement: %+v", st)
	}
	err = o.Store.InTx(t.Context(), func(_ *store.Store, tx pgx.Tx) error {
		_, err := tx.Exec(t.Context(), "UPDATE ledger_entry SET amount = 1000")
		return err
	})
	if err == nil || !strings.Contains(err.Error(), "only added to") {
		t.Errorf("an entry is changed: %v", err)
	}
	o.must(o.Store.InTx(t.Context(), func(_ *store.Store, tx pgx.Tx) error {
		_, err := tx.Exec(t.Context(), "UPDATE lot SET remaining = remaining + 1")
		return err
	}))
	v, err := o.Verify(t.Context())
	o.must(err)
	if len(v.Problems) != 1 || !strings.Contains(v.Says(), "Lots that differ") {
		t.Errorf("a lot with one check more is found out: %v", v.Problems)
	}
}
