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
	"slices"
	"strings"
	"time"

	"varnet/internal/secret"
)

// State is what a relay keeps from start to start: its tokens and certificate.
type State struct {
	// Tokens are what the owner may show: the present one and, after a rotation, the one
	// before it.
	Tokens      []string
	Certificate tls.Certificate
	// Fresh: the token was made just now.
	Fresh bool
}

func tokenFile(folder string) string { return filepath.Join(folder, "token") }

// Tokens reads the tokens from a folder.
func Tokens(folder string) ([]string, error) {
	text, err := secret.Read(tokenFile(folder))
	if err != nil {
		return nil, err
	}
	tokens := strings.Fields(string(text))
	if len(tokens) == 0 || slices.ContainsFunc(tokens, func(t string) bool { return len(t) < leastToken }) {
		return nil, fmt.Errorf("a token in %s is shorter than %d characters; remove the file, and one is made at the next start", tokenFile(folder), leastToken)
	}
	return tokens, nil
}

// leastToken is how long a token is at least, in characters.
const leastToken = 32

// Rotate puts a new token in front of the present one, which is good until the next rotation.
func Rotate(folder string) error {
	tokens, err := Tokens(folder)
	if err != nil {
		return err
	}
	return secret.Replace(tokenFile(folder), []byte(secret.Random()+"\n"+tokens[0]+"\n"))
}

// Keep reads the state from a folder, and makes there what is missing, readable
// by its owner alone.
func Keep(folder string) (s State, err error) {
	_, err = secret.Keep(tokenFile(folder), func() ([]byte, error) {
		s.Fresh = true
		return []byte(secret.Random() + "\n"), nil
	})
	if err != nil {
		return s, fmt.Errorf("%w; or name another folder with -state", err)
	}
	if s.Tokens, err = Tokens(folder); err != nil {
		return s, err
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
