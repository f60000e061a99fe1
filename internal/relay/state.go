package relay

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"path/filepath"
	"strings"
	"time"

	"varnet/internal/secret"
)

// State is what a relay keeps from start to start: its token and certificate.
type State struct {
	Token       string
	Certificate tls.Certificate
}

// Keep reads the state from a folder, and makes there what is missing, readable
// by its owner alone.
func Keep(folder string) (s State, err error) {
	token, err := secret.Keep(filepath.Join(folder, "token"), func() ([]byte, error) { return []byte(secret.Random() + "\n"), nil })
	if err != nil {
		return s, fmt.Errorf("%w; or name another folder with -state", err)
	}
	if s.Token = strings.TrimSpace(string(token)); len(s.Token) < 32 {
		return s, fmt.Errorf("the token in %s is shorter than 32 characters; remove the file, and one is made", folder)
	}
	both, err := secret.Keep(filepath.Join(folder, "certificate.pem"), newCertificate)
	if err == nil {
		s.Certificate, err = tls.X509KeyPair(both, both)
	}
	return s, err
}

// newCertificate makes a key and a certificate for it that lasts: the relay is
// known by it, not by its name or its dates.
func newCertificate() ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	t := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: "Varnet relay"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(30, 0, 0)}
	cert, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})...), err
}
