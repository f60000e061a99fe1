// Package secret seals what must be read again, such as the passwords of
// proxies, with a key that is not in the database (AES-256-GCM).
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
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

// Box seals and opens, and makes fingerprints.
type Box struct {
	aead cipher.AEAD
	mac  []byte
}

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
	mac := sha256.Sum256([]byte("fingerprints " + key))
	return &Box{aead, mac[:]}, err
}

// Fingerprint returns the keyed hash (HMAC-SHA256) of a text for one purpose: who has it and
// not the key cannot find the text by trying.
func (b *Box) Fingerprint(text, purpose string) []byte {
	h := hmac.New(sha256.New, b.mac)
	h.Write([]byte(purpose + "\x00" + text))
	return h.Sum(nil)
}

// File makes a box of the key in a file, which is made if there is none.
func File(name string) (*Box, error) {
	key, err := Keep(name, func() ([]byte, error) { return []byte(Random() + "\n"), nil })
	if err != nil {
		return nil, fmt.Errorf("%w; or name another with -secret-file", err)
	}
	return New(strings.TrimSpace(string(key)))
}

// Keep reads a confidential file. If there is none it makes one of what fresh
// gives, readable by its owner alone; one that others can read is refused.
func Keep(name string, fresh func() ([]byte, error)) ([]byte, error) {
	if err := make600(name, fresh); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("the file %s cannot be made: %w", name, err)
	}
	return Read(name)
}

// Read reads a confidential file; one that others can read is refused.
func Read(name string) ([]byte, error) {
	info, err := os.Stat(name)
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the file %s can be read by others than its owner; say: chmod 600 %s", name, name)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("the file %s cannot be read: %w", name, err)
	}
	return text, nil
}

// Replace puts another text in the place of a confidential file, all of it or nothing.
func Replace(name string, text []byte) error {
	fresh := name + ".new"
	err := os.Remove(fresh) // left by one that broke off
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		err = make600(fresh, func() ([]byte, error) { return text, nil })
	}
	if err == nil {
		err = os.Rename(fresh, name)
	}
	if err != nil {
		return fmt.Errorf("the file %s cannot be written: %w", name, err)
	}
	return nil
}

func make600(name string, fresh func() ([]byte, error)) error {
	if _, err := os.Stat(name); err == nil {
		return fs.ErrExist
	}
	text, err := fresh()
	if err == nil {
		err = os.MkdirAll(filepath.Dir(name), 0o700)
	}
	if err != nil {
		return err
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// Random returns 256 random bits as text.
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

// Open returns the text back.
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
