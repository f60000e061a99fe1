package practice

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"varnet/core/ledger"
	"varnet/internal/pay"
	"varnet/internal/webhook"
)

// PaymentSecret is what the payment provider of the practice internet signs by unless told otherwise.
const PaymentSecret = "whsec_UHJhY3RpY2UgcGF5bWVudCBzZWNyZXQsIGZvciBkZW1vcyE="

// Cashier is the payment provider of the practice internet: on its page somebody pays, refuses, pays
// late or twice, and charges back; it tells of it by signed calls, on demand twice and out of order.
type Cashier struct {
	URL    string
	Secret string

	mu       sync.Mutex
	payments []*payment
	// refuses are the stored ways to pay that pay no more.
	refuses bool
	pending sync.WaitGroup
	close   func() error
}

// payment is a payment that somebody asked for.
type payment struct {
	pay.Order
	ID    string
	State string
}

// Acts are what somebody can do on the page of a payment.
var acts = []struct{ Name, Label string }{
	{"pay", "Pay"}, {"refuse", "Refuse"}, {"late", "Pay, and tell of it 3 seconds later"}, {"twice", "Pay twice"}, {"told-twice", "Pay, and tell of it twice"},
	{"back-first", "Pay and charge back, told in the wrong order"}, {"wrong", "Pay another amount"},
}

// StartCashier starts the payment provider, whose calls are signed by the secret.
func StartCashier(listen, secret string) (*Cashier, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("practice payment provider: %w", err)
	}
	c := &Cashier{URL: "http://" + l.Addr().String(), Secret: secret}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /payments", c.begin)
	mux.HandleFunc("POST /payments/{id}/return", c.giveBack)
	mux.HandleFunc("GET /pay/{id}", c.page)
	mux.HandleFunc("POST /pay/{id}", c.act)
	s := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.Serve(l) }()
	c.close = s.Close
	return c, nil
}

// Close ends it, once all calls that are due are made.
func (c *Cashier) Close() {
	_ = c.close()
	c.pending.Wait()
}

// Refuse has stored ways to pay refused from now on, or paid again.
func (c *Cashier) Refuse(yes bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.refuses = yes
}

// Payments returns how many payments were asked for.
func (c *Cashier) Payments() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.payments)
}

// State returns where the payment with a number stands, from 0 in their order.
func (c *Cashier) State(n int) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.payments[n].State
}

// Act does on the page of the latest payment what somebody would.
func (c *Cashier) Act(act string) {
	c.mu.Lock()
	p := c.payments[len(c.payments)-1]
	c.mu.Unlock()
	c.do(p, act)
}

// signed reads a signed body, and answers for one that is not.
func (c *Cashier) signed(w http.ResponseWriter, r *http.Request, into any) bool {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<16))
	if err == nil {
		_, err = webhook.Verify(c.Secret, r.Header, body, time.Now())
	}
	if err == nil {
		err = json.Unmarshal(body, into)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
	}
	return err == nil
}

func (c *Cashier) begin(w http.ResponseWriter, r *http.Request) {
	p := &payment{ID: rand.Text(), State: "open"}
	if !c.signed(w, r, &p.Order) {
		return
	}
	c.mu.Lock()
	c.payments = append(c.payments, p)
	refuses := c.refuses
	c.mu.Unlock()
	told(w, map[string]string{"page": c.URL + "/pay/" + p.ID})
	if p.Method != "" {
		act := "pay"
		if refuses {
			act = "refuse"
		}
		c.do(p, act)
	}
}

func (c *Cashier) giveBack(w http.ResponseWriter, r *http.Request) {
	if !c.signed(w, r, &struct{}{}) {
		return
	}
	p := c.find(r.PathValue("id"))
	if p == nil {
		http.NotFound(w, r)
		return
	}
	told(w, struct{}{})
	c.set(p, "paid back")
	c.tell(p, p.ID, ledger.CallPaidBack, 0)
}

// find returns a payment by its number, or by that of a second payment for the same.
func (c *Cashier) find(id string) *payment {
	c.mu.Lock()
	defer c.mu.Unlock()
	i := slices.IndexFunc(c.payments, func(p *payment) bool { return p.ID == id })
	if i < 0 {
		return nil
	}
	return c.payments[i]
}

func (c *Cashier) set(p *payment, state string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	p.State = state
}

// again is a second payment for the same.
func (c *Cashier) again(p *payment) *payment {
	c.mu.Lock()
	defer c.mu.Unlock()
	second := &payment{Order: p.Order, ID: rand.Text(), State: "paid"}
	c.payments = append(c.payments, second)
	return second
}

// do does what somebody chose on the page.
func (c *Cashier) do(p *payment, act string) {
	switch act {
	case "refuse":
		c.set(p, "refused")
		c.tell(p, p.ID, ledger.CallRefused, 0)
		return
	case "back-first":
		c.set(p, "charged back")
		c.tell(p, p.ID, ledger.CallChargedBack, 0)
		c.tell(p, p.ID, ledger.CallPaid, time.Second)
		return
	case "charge-back":
		c.set(p, "charged back")
		c.tell(p, p.ID, ledger.CallChargedBack, 0)
		return
	case "wrong":
		short := *p
		short.Amount--
		c.tell(&short, p.ID, ledger.CallPaid, 0)
		return
	}
	c.set(p, "paid")
	after := time.Duration(0)
	if act == "late" {
		after = 3 * time.Second
	}
	id := c.tell(p, p.ID, ledger.CallPaid, after)
	switch act {
	case "told-twice":
		c.send(p, p.ID, ledger.CallPaid, time.Second, id)
	case "twice":
		second := c.again(p)
		c.tell(second, second.ID, ledger.CallPaid, time.Second)
	}
}

// tell tells by a call what became of a payment, and returns the number of the call.
func (c *Cashier) tell(p *payment, id string, kind ledger.CallKind, after time.Duration) string {
	number := rand.Text()
	c.send(p, id, kind, after, number)
	return number
}

// tries is how often a call is tried that is not taken.
const tries = 5

func (c *Cashier) send(p *payment, id string, kind ledger.CallKind, after time.Duration, number string) {
	call := pay.Call{Reference: p.Reference, Payment: id, Kind: kind, Amount: p.Amount, Currency: p.Currency}
	if kind == ledger.CallRefused {
		call.Says = "the account has too little"
	}
	if kind == ledger.CallPaid && p.Remember {
		call.Method = &pay.Method{Token: "practice-" + rand.Text(), Name: "the account ending in 12"}
	}
	body, _ := json.Marshal(call)
	c.pending.Go(func() {
		time.Sleep(after)
		for try := range tries {
			r, err := http.NewRequest(http.MethodPost, p.Calls, bytes.NewReader(body))
			if err != nil {
				return
			}
			r.Header.Set("Content-Type", "application/json")
			if webhook.Sign(r.Header, number, time.Now(), body, c.Secret) != nil {
				return
			}
			client := http.Client{Timeout: 10 * time.Second}
			if answer, err := client.Do(r); err == nil {
				_ = answer.Body.Close()
				if answer.StatusCode < 500 {
					return
				}
			}
			time.Sleep(time.Duration(try+1) * 200 * time.Millisecond)
		}
	})
}

var cashierPage = template.Must(template.New("cashier").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Practice payments</title>
<style>body { font: 16px/1.5 sans-serif; margin: 3rem auto; max-width: 34rem; padding: 0 1rem; color: #222; background: #f3f3ee }
button { display: block; font: inherit; padding: .5rem 1rem; margin: .5rem 0; width: 100%; text-align: left }</style>
<h1>Practice payments</h1>
<p>This is not a real payment: nobody pays anything here. It is {{.State}}.</p>
<p><strong>{{.Title}}</strong><br>{{.Says}}</p>
<form method="post">{{range .Acts}}<button name="act" value="{{.Name}}">{{.Label}}</button>{{end}}</form></html>`))

func (c *Cashier) page(w http.ResponseWriter, r *http.Request) {
	p := c.find(r.PathValue("id"))
	if p == nil {
		http.NotFound(w, r)
		return
	}
	c.mu.Lock()
	state := p.State
	c.mu.Unlock()
	can := acts
	if state == "paid" {
		can = []struct{ Name, Label string }{{"charge-back", "Charge back"}}
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = cashierPage.Execute(w, map[string]any{"State": state, "Title": p.Title, "Says": ledger.Money(p.Currency, p.Amount), "Acts": can})
}

func (c *Cashier) act(w http.ResponseWriter, r *http.Request) {
	p := c.find(r.PathValue("id"))
	if p == nil {
		http.NotFound(w, r)
		return
	}
	c.do(p, r.FormValue("act"))
	http.Redirect(w, r, p.Back, http.StatusSeeOther)
}
