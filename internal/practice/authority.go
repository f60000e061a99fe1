package practice

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Authority is a certificate authority that gives certificates to whoever shows that a name is
// theirs (ACME, RFC 8555), by a handshake on their port (tls-alpn-01, RFC 8737).
type Authority struct {
	// Directory is where its directory is.
	Directory string
	// Root is the certificate that its own are signed by.
	Root *x509.Certificate
	// Port is where the names are shown to be somebody's; on the Internet it is 443.
	Port int

	base string
	key  *ecdsa.PrivateKey

	mu       sync.Mutex
	nonces   map[string]bool
	accounts map[string]*jose.JSONWebKey
	orders   []*acmeOrder
}

// acmeOrder is an order for one name.
type acmeOrder struct {
	Name, Token string
	Account     string
	State       string // pending, ready, valid or invalid (RFC 8555, 7.1.6)
	Why         string
	Chain       []byte
}

// StartAuthority starts a certificate authority of the practice internet.
func (i *Internet) StartAuthority(listen string, port int) (*Authority, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("practice certificate authority: %w", err)
	}
	a := &Authority{Port: port, base: "http://" + l.Addr().String(), nonces: map[string]bool{}, accounts: map[string]*jose.JSONWebKey{}}
	a.Directory = a.base + "/directory"
	if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err == nil {
		template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Practice authority"}, NotBefore: time.Now().Add(-time.Hour),
			NotAfter: time.Now().Add(240 * time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
		var der []byte
		if der, err = x509.CreateCertificate(rand.Reader, template, template, &a.key.PublicKey, a.key); err == nil {
			a.Root, err = x509.ParseCertificate(der)
		}
	}
	if err != nil {
		return nil, err
	}
	server := &http.Server{Handler: a.routes(), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }()
	i.closers = append(i.closers, func() { _ = server.Close() })
	return a, nil
}

// Issued are the names that certificates were given for, in order.
func (a *Authority) Issued() (names []string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, o := range a.orders {
		if o.Chain != nil {
			names = append(names, o.Name)
		}
	}
	return names
}

// acmeCall is a signed request: who sent it, and what.
type acmeCall struct {
	account string
	key     *jose.JSONWebKey
	payload []byte
	order   *acmeOrder
	number  int
}

// acmeProblem is why a request is refused (RFC 8555, 6.7).
type acmeProblem struct {
	status    int
	kind, why string
}

func (p *acmeProblem) Error() string { return p.kind + ": " + p.why }

func (a *Authority) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /directory", func(w http.ResponseWriter, _ *http.Request) {
		a.answer(w, http.StatusOK, map[string]string{"newNonce": a.base + "/nonce", "newAccount": a.base + "/account", "newOrder": a.base + "/order"})
	})
	mux.HandleFunc("/nonce", func(w http.ResponseWriter, _ *http.Request) { a.answer(w, http.StatusOK, nil) })
	for pattern, do := range map[string]func(http.ResponseWriter, acmeCall) error{
		"POST /account": a.newAccount, "POST /order": a.newOrder, "POST /order/{n}": a.order, "POST /authorization/{n}": a.authorization,
		"POST /challenge/{n}": a.challenge, "POST /finalize/{n}": a.finalize, "POST /certificate/{n}": a.certificate,
	} {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			call, err := a.signed(r)
			if err == nil {
				err = do(w, call)
			}
			var told *acmeProblem
			switch {
			case errors.As(err, &told):
				a.answer(w, told.status, map[string]string{"type": "urn:ietf:params:acme:error:" + told.kind, "detail": told.why})
			case err != nil:
				a.answer(w, http.StatusBadRequest, map[string]string{"type": "urn:ietf:params:acme:error:malformed", "detail": err.Error()})
			}
		})
	}
	return mux
}

// answer answers with a fresh nonce (RFC 8555, 6.5).
func (a *Authority) answer(w http.ResponseWriter, status int, body any) {
	nonce := rand.Text()
	a.mu.Lock()
	a.nonces[nonce] = true
	a.mu.Unlock()
	w.Header().Set("Replay-Nonce", nonce)
	w.Header().Set("Content-Type", "application/json")
	if status >= http.StatusBadRequest {
		w.Header().Set("Content-Type", "application/problem+json")
	}
	w.WriteHeader(status)
	if body != nil {
		_ = json.NewEncoder(w).Encode(body)
	}
}

// signed reads a request that is signed by an account, or by the key of a new one (RFC 8555,
// 6.2), for this address and with a nonce that was not used yet.
func (a *Authority) signed(r *http.Request) (c acmeCall, err error) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<16))
	if err != nil {
		return c, err
	}
	parsed, err := jose.ParseSigned(string(body), []jose.SignatureAlgorithm{jose.ES256})
	if err != nil {
		return c, err
	}
	head := parsed.Signatures[0].Protected
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.nonces[head.Nonce] {
		return c, &acmeProblem{http.StatusBadRequest, "badNonce", "the nonce was used or is not ours"}
	}
	delete(a.nonces, head.Nonce)
	if head.ExtraHeaders["url"] != a.base+r.URL.Path {
		return c, &acmeProblem{http.StatusUnauthorized, "unauthorized", "signed for another address"}
	}
	if c.key = head.JSONWebKey; c.key == nil {
		c.account = head.KeyID
		if c.key = a.accounts[c.account]; c.key == nil {
			return c, &acmeProblem{http.StatusBadRequest, "accountDoesNotExist", "no such account"}
		}
	}
	if c.payload, err = parsed.Verify(c.key); err != nil {
		return c, &acmeProblem{http.StatusUnauthorized, "unauthorized", "the signature does not hold"}
	}
	if n := r.PathValue("n"); n != "" {
		c.number, err = strconv.Atoi(n)
		if err != nil || c.number < 0 || c.number >= len(a.orders) || a.orders[c.number].Account != c.account {
			return c, &acmeProblem{http.StatusNotFound, "malformed", "no such order of this account"}
		}
		c.order = a.orders[c.number]
	}
	return c, nil
}

func (a *Authority) newAccount(w http.ResponseWriter, c acmeCall) error {
	print, err := c.key.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	at := a.base + "/account/" + base64.RawURLEncoding.EncodeToString(print)
	a.mu.Lock()
	_, known := a.accounts[at]
	a.accounts[at] = c.key
	a.mu.Unlock()
	w.Header().Set("Location", at)
	status := http.StatusCreated
	if known {
		status = http.StatusOK
	}
	a.answer(w, status, map[string]string{"status": "valid"})
	return nil
}

func (a *Authority) newOrder(w http.ResponseWriter, c acmeCall) error {
	var in struct {
		Identifiers []struct{ Type, Value string }
	}
	if err := json.Unmarshal(c.payload, &in); err != nil {
		return err
	}
	if len(in.Identifiers) != 1 || in.Identifiers[0].Type != "dns" {
		return &acmeProblem{http.StatusBadRequest, "rejectedIdentifier", "one name an order"}
	}
	o := &acmeOrder{Name: in.Identifiers[0].Value, Token: rand.Text(), Account: c.account, State: "pending"}
	a.mu.Lock()
	a.orders = append(a.orders, o)
	n := len(a.orders) - 1
	a.mu.Unlock()
	w.Header().Set("Location", a.at("order", n))
	a.answer(w, http.StatusCreated, a.shown(o, n))
	return nil
}

func (a *Authority) at(what string, n int) string { return fmt.Sprintf("%s/%s/%d", a.base, what, n) }

func (a *Authority) shown(o *acmeOrder, n int) map[string]any {
	a.mu.Lock()
	defer a.mu.Unlock()
	shown := map[string]any{"status": o.State, "expires": time.Now().Add(time.Hour).Format(time.RFC3339), "identifiers": []map[string]string{{"type": "dns", "value": o.Name}},
		"authorizations": []string{a.at("authorization", n)}, "finalize": a.at("finalize", n)}
	if o.Chain != nil {
		shown["certificate"] = a.at("certificate", n)
	}
	return shown
}

func (a *Authority) order(w http.ResponseWriter, c acmeCall) error {
	w.Header().Set("Location", a.at("order", c.number))
	a.answer(w, http.StatusOK, a.shown(c.order, c.number))
	return nil
}

func (a *Authority) challengeShown(o *acmeOrder, n int) map[string]any {
	state := map[string]string{"pending": "pending", "invalid": "invalid"}[o.State]
	if state == "" {
		state = "valid"
	}
	shown := map[string]any{"type": "tls-alpn-01", "url": a.at("challenge", n), "token": o.Token, "status": state}
	if o.Why != "" {
		shown["error"] = map[string]string{"type": "urn:ietf:params:acme:error:unauthorized", "detail": o.Why}
	}
	return shown
}

func (a *Authority) authorization(w http.ResponseWriter, c acmeCall) error {
	a.mu.Lock()
	challenge := a.challengeShown(c.order, c.number)
	a.mu.Unlock()
	a.answer(w, http.StatusOK, map[string]any{"status": challenge["status"], "identifier": map[string]string{"type": "dns", "value": c.order.Name}, "challenges": []any{challenge}})
	return nil
}

// challenge looks whether the name is theirs: a handshake for it shows a certificate that is
// signed over the token and their key (RFC 8737, section 3).
func (a *Authority) challenge(w http.ResponseWriter, c acmeCall) error {
	err := a.look(c)
	a.mu.Lock()
	if c.order.State = "ready"; err != nil {
		c.order.State, c.order.Why = "invalid", err.Error()
	}
	shown := a.challengeShown(c.order, c.number)
	a.mu.Unlock()
	a.answer(w, http.StatusOK, shown)
	return nil
}

// acmeIdentifier is the extension that holds what is shown (RFC 8737, section 3).
var acmeIdentifier = []int{1, 3, 6, 1, 5, 5, 7, 1, 31}

func (a *Authority) look(c acmeCall) error {
	print, err := c.key.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	want := sha256.Sum256([]byte(c.order.Token + "." + base64.RawURLEncoding.EncodeToString(print)))
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	d := &tls.Dialer{Config: &tls.Config{ServerName: c.order.Name, NextProtos: []string{"acme-tls/1"}, InsecureSkipVerify: true}}
	conn, err := d.DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(a.Port)))
	if err != nil {
		return err
	}
	defer conn.Close()
	for _, e := range conn.(*tls.Conn).ConnectionState().PeerCertificates[0].Extensions {
		if slices.Equal(e.Id, acmeIdentifier) && e.Critical && string(e.Value) == "\x04\x20"+string(want[:]) {
			return nil
		}
	}
	return errors.New("the certificate of the handshake does not show it")
}

func (a *Authority) finalize(w http.ResponseWriter, c acmeCall) error {
	var in struct{ CSR string }
	if err := json.Unmarshal(c.payload, &in); err != nil {
		return err
	}
	der, err := base64.RawURLEncoding.DecodeString(in.CSR)
	if err != nil {
		return err
	}
	wanted, err := x509.ParseCertificateRequest(der)
	if err == nil {
		err = wanted.CheckSignature()
	}
	if err != nil {
		return &acmeProblem{http.StatusBadRequest, "badCSR", err.Error()}
	}
	if c.order.State != "ready" || !slices.Equal(wanted.DNSNames, []string{c.order.Name}) {
		return &acmeProblem{http.StatusForbidden, "orderNotReady", "the name is not shown to be yours"}
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), DNSNames: wanted.DNSNames, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 3, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	leaf, err := x509.CreateCertificate(rand.Reader, template, a.Root, wanted.PublicKey, a.key)
	if err != nil {
		return err
	}
	a.mu.Lock()
	c.order.State = "valid"
	for _, one := range [][]byte{leaf, a.Root.Raw} {
		c.order.Chain = append(c.order.Chain, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: one})...)
	}
	a.mu.Unlock()
	return a.order(w, c)
}

func (a *Authority) certificate(w http.ResponseWriter, c acmeCall) error {
	a.mu.Lock()
	chain := c.order.Chain
	a.mu.Unlock()
	if chain == nil {
		return &acmeProblem{http.StatusNotFound, "malformed", "there is none yet"}
	}
	w.Header().Set("Content-Type", "application/pem-certificate-chain")
	_, _ = w.Write(chain)
	return nil
}
