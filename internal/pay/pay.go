// Package pay speaks with a payment provider: it starts payments and pays them back, and reads the
// signed calls by which the provider tells what became of them. No number of a card or of an account
// ever comes here: people pay on the provider's own page, and a payment method is stored by a token.
//
// Both directions are JSON, signed in the form of package webhook by one secret that both sides know.
package pay

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"varnet/core/ledger"
	"varnet/internal/webhook"
)

// Provider is a payment provider as the installation knows it.
type Provider struct {
	Address string // its base, such as https://pay.example
	Secret  string // of both directions
}

// Order is what the provider is asked for.
type Order struct {
	Reference string `json:"reference"` // ours, by which it tells of the payment
	Title     string `json:"title"`
	Amount    int64  `json:"amount"` // in the smallest unit
	Currency  string `json:"currency"`
	Calls     string `json:"calls"`          // where it tells what became of it
	Back      string `json:"back,omitempty"` // where people go afterwards
	Remember  bool   `json:"remember,omitempty"`
	// Method is the token of a stored payment method, which needs nobody at the page.
	Method string `json:"method,omitempty"`
}

// Method is a payment method that the provider has stored.
type Method struct {
	Token string `json:"token"`
	Name  string `json:"name"` // what people call it, such as "account ending in 12"
}

// Call is what the provider tells of a payment.
type Call struct {
	Reference string          `json:"reference"`
	Payment   string          `json:"payment"`
	Kind      ledger.CallKind `json:"kind"`
	Amount    int64           `json:"amount"`
	Currency  string          `json:"currency"`
	Says      string          `json:"says,omitempty"` // why it was refused
	Method    *Method         `json:"method,omitempty"`
}

// Ledger is the call as it changes a purchase.
func (c Call) Ledger() ledger.Call {
	return ledger.Call{Payment: c.Payment, Kind: c.Kind, Amount: c.Amount, Currency: c.Currency}
}

const (
	patience = 15 * time.Second
	most     = 64 << 10 // bytes of an answer or a call
)

// client follows no redirect: what is signed is for the provider alone.
var client = &http.Client{Timeout: patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// ErrAddress reports an address that no provider can have.
var ErrAddress = errors.New("the provider's address is an https address, such as https://pay.example; http is for this machine alone")

// CheckAddress reports an address of a provider that cannot be.
func CheckAddress(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" || len(address) > 300 {
		return ErrAddress
	}
	if local := u.Hostname() == "localhost" || strings.HasPrefix(u.Hostname(), "127.") || u.Hostname() == "::1"; u.Scheme != "https" && !(u.Scheme == "http" && local) {
		return ErrAddress
	}
	return nil
}

// Start starts a payment and returns the provider's page on which it is made; "" where a stored way
// to pay is used. What becomes of it is told by a call.
func (p Provider) Start(ctx context.Context, o Order) (page string, err error) {
	var answer struct {
		Page string `json:"page"`
	}
	if err := p.send(ctx, "/payments", o, &answer); err != nil {
		return "", err
	}
	if o.Method != "" {
		return "", nil
	}
	base, err := url.Parse(p.Address)
	if err != nil {
		return "", err
	}
	u, err := url.Parse(answer.Page)
	if err != nil || u.Scheme != base.Scheme || u.Host != base.Host {
		return "", errors.New("the payment provider named a page that is not its own")
	}
	return answer.Page, nil
}

// Return has a payment paid back. That it is, is told by a call.
func (p Provider) Return(ctx context.Context, payment string) error {
	return p.send(ctx, "/payments/"+url.PathEscape(payment)+"/return", struct{}{}, &struct{}{})
}

func (p Provider) send(ctx context.Context, path string, body, answer any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(p.Address, "/")+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	if err := webhook.Sign(r.Header, rand.Text(), time.Now(), text, p.Secret); err != nil {
		return err
	}
	response, err := client.Do(r)
	if err != nil {
		return fmt.Errorf("the payment provider does not answer: %w", err)
	}
	defer response.Body.Close()
	said, err := io.ReadAll(io.LimitReader(response.Body, most))
	if err != nil {
		return err
	}
	if response.StatusCode/100 != 2 {
		return fmt.Errorf("the payment provider answered %s", response.Status)
	}
	return json.Unmarshal(said, answer)
}

// Read verifies and reads a call of the provider. Its id is the same however often it is sent.
func (p Provider) Read(h http.Header, body []byte, now time.Time) (id string, c Call, err error) {
	if id, err = webhook.Verify(p.Secret, h, body, now); err != nil {
		return "", c, err
	}
	d := json.NewDecoder(bytes.NewReader(body))
	d.DisallowUnknownFields()
	if err := d.Decode(&c); err != nil {
		return "", c, fmt.Errorf("the call cannot be read: %w", err)
	}
	switch {
	case len(id) > 200 || c.Payment == "" || len(c.Payment) > 200 || c.Reference == "" || len(c.Reference) > 200:
		return "", c, errors.New("the call needs an id, a payment and a reference of at most 200 characters each")
	case c.Method != nil && (c.Method.Token == "" || len(c.Method.Token) > 1000 || len(c.Method.Name) > 100):
		return "", c, errors.New("the stored payment method needs a token of at most 1,000 characters and a name of at most 100")
	}
	return id, c, nil
}
