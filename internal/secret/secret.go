// Package secret seals what must be read again, such as the passwords of
// proxies, with a key that is not in the database (AES-256-GCM).
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Box seals and opens.
type Box struct{ aead cipher.AEAD }

// New makes a box of a key: any text of at least 32 characters.
func New(key string) (*Box, error) {
	if len(key) < 32 {
		return nil, fmt.Errorf("the secret (VARNET_SECRET) has %d characters and needs at least 32 random ones", len(key))
	}
	sum := sha256.Sum256([]byte(key))
	block, err := aes.NewCipher(sum[:])
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Box{aead}, err
}

// File makes a box of the key in a file, which is made, readable by its owner
// alone, if there is none. A file that others can read is refused.
func File(name string) (*Box, error) {
	if err := make256(name); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("the secret file %s cannot be made; name another with -secret-file: %w", name, err)
	}
	info, err := os.Stat(name)
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the secret file %s can be read by others than its owner; say: chmod 600 %s", name, name)
	}
	key, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("the secret file %s cannot be read: %w", name, err)
	}
	return New(strings.TrimSpace(string(key)))
}

func make256(name string) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(Random() + "\n")
	return errors.Join(err, f.Close())
}

// Random gives 256 random bits as text.
func Random() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	return base64.RawURLEncoding.EncodeToString(b)
}

// Seal seals a text for one purpose; it can only be opened for the same.
func (b *Box) Seal(text, purpose string) []byte {
	nonce := make([]byte, b.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return b.aead.Seal(nonce, nonce, []byte(text), []byte(purpose))
}

// Open gives the text back.
func (b *Box) Open(sealed []byte, purpose string) (string, error) {
	n := b.aead.NonceSize()
	if len(sealed) < n {
		return "", errors.New("what was sealed is cut short")
	}
	text, err := b.aead.Open(nil, sealed[:n], sealed[n:], []byte(purpose))
	if err != nil {
		return "", errors.New("it was sealed with another secret; is VARNET_SECRET, or the file of -secret-file, the one it was sealed with?")
	}
	return string(text), nil
}
