package backup

import (
	"fmt"
	"strings"

	"filippo.io/age"

	"varnet/internal/secret"
)

// NewKey writes a new private key to a file that must not be there yet, and returns the public
// one.
func NewKey(file string) (public string, err error) {
	k, err := age.GenerateX25519Identity()
	if err == nil {
		err = secret.Make(file, []byte(k.String()+"\n"))
	}
	if err != nil {
		return "", err
	}
	return k.Recipient().String(), nil
}

// PublicKeys reads public keys.
func PublicKeys(texts []string) (keys []age.Recipient, err error) {
	for _, text := range texts {
		k, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, fmt.Errorf("%q is not a public key; \"varnet backup key\" makes one, which begins with age1", text)
		}
		keys = append(keys, k)
	}
	return keys, nil
}

// PrivateKey reads the private key in a file.
func PrivateKey(file string) (age.Identity, error) {
	text, err := secret.Read(file)
	if err != nil {
		return nil, err
	}
	k, err := age.ParseX25519Identity(strings.TrimSpace(string(text)))
	if err != nil {
		return nil, fmt.Errorf("the file %s holds no private key of \"varnet backup key\"", file)
	}
	return k, nil
}
