// Package secret seals what must be read again, such as the passwords of
// proxies, with a key that is not in the database (AES-256-GCM).
//
// A secret can be changed: for a while there are several, of which the first seals and all
// open. The file that holds them is read again when it changes.
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
	"sync"
	"time"

	"varnet/core/say"
)

// Box seals and opens, and makes fingerprints.
type Box struct {
	file string // where the keys are kept; "": nowhere

	mu   sync.Mutex
	keys []key
	read time.Time // of the file's change as it was read
}

// key is one secret.
type key struct {
	aead cipher.AEAD
	mac  []byte
	name []byte // what it can be known by; nothing is sealed with it
}

// New makes a box of a secret, and of those before it that still open: each any text of at
// least 32 characters.
func New(secret string, before ...string) (*Box, error) {
	b := &Box{}
	var err error
	b.keys, err = keysOf(append([]string{secret}, before...))
	return b, err
}

func keysOf(secrets []string) (keys []key, err error) {
	for _, s := range secrets {
		if len(s) < 32 {
			return nil, fmt.Errorf("the secret (VARNET_SECRET) has %d characters and needs at least 32 random ones", len(s))
		}
		sum := sha256.Sum256([]byte(s))
		block, err := aes.NewCipher(sum[:])
		if err != nil {
			return nil, err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		mac, name := sha256.Sum256([]byte("fingerprints "+s)), sha256.Sum256([]byte("name "+s))
		keys = append(keys, key{aead, mac[:], name[:4]})
	}
	return keys, nil
}

// Print is the fingerprint of a text, and the name of the secret that it is keyed with.
type Print struct{ Secret, Sum []byte }

// Fingerprint returns the keyed hash (HMAC-SHA256) of a text for one purpose: who has it and
// not the key cannot find the text by trying.
func (b *Box) Fingerprint(text, purpose string) []byte {
	return b.Prints(text, purpose)[0].Sum
}

// Prints returns the fingerprints of a text by all secrets, the present one's first.
func (b *Box) Prints(text, purpose string) []Print { return b.Printer(purpose)(text) }

// Printer returns what makes the fingerprints of many texts by the secrets as they are now.
func (b *Box) Printer(purpose string) func(text string) []Print {
	keys := b.now()
	return func(text string) []Print {
		out := make([]Print, len(keys))
		for i, k := range keys {
			h := hmac.New(sha256.New, k.mac)
			h.Write([]byte(purpose + "\x00" + text))
			out[i] = Print{k.name, h.Sum(nil)}
		}
		return out
	}
}

// Before reports whether there are secrets before the present one, and returns the name of
// that.
func (b *Box) Before() (present []byte, before bool) {
	keys := b.now()
	return keys[0].name, len(keys) > 1
}

// File makes a box of the secrets in a file, one a line, the present one first. It is made if
// there is none.
func File(name string) (*Box, error) {
	if _, err := Keep(name, func() ([]byte, error) { return []byte(Random() + "\n"), nil }); err != nil {
		return nil, fmt.Errorf("%w; or name another with -secret-file", err)
	}
	b := &Box{file: name}
	return b, b.again()
}

// File returns the file that the secrets are in; "": none.
func (b *Box) File() string { return b.file }

// Changed returns when the secrets in the file were changed last.
func (b *Box) Changed() time.Time {
	b.now()
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.read
}

// again reads the file where it has changed.
func (b *Box) again() error {
	info, err := os.Stat(b.file)
	if err != nil || info.ModTime().Equal(b.read) {
		return err
	}
	text, err := Read(b.file)
	if err != nil {
		return err
	}
	keys, err := keysOf(strings.Split(strings.TrimSpace(string(text)), "\n"))
	if err == nil {
		b.keys, b.read = keys, info.ModTime()
	}
	return err
}

// now returns the keys as they are now. A file that cannot be read any more leaves those that
// are known.
func (b *Box) now() []key {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.file != "" {
		_ = b.again()
	}
	return b.keys
}

// Rotate puts a new secret in front of those in a file.
func Rotate(name string) error {
	before, err := Read(name)
	if err != nil {
		return err
	}
	return Replace(name, append([]byte(Random()+"\n"), before...))
}

// Forget leaves the present secret alone in a file.
func Forget(name string) error {
	text, err := Read(name)
	if err != nil {
		return err
	}
	present, _, _ := strings.Cut(string(text), "\n")
	return Replace(name, []byte(present+"\n"))
}

// Keep reads a confidential file. If there is none it makes one of what fresh
// gives, readable by its owner alone; one that others can read is refused.
func Keep(name string, fresh func() ([]byte, error)) ([]byte, error) {
	if err := make600(name, fresh); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("the file %s cannot be made: %w", name, say.WithoutPath(err))
	}
	return Read(name)
}

// Read reads a confidential file; one that others can read is refused.
func Read(name string) ([]byte, error) {
	info, err := os.Stat(name)
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the file %s can be read by others than its owner; run: chmod 600 %s", name, name)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("the file %s cannot be read: %w", name, say.WithoutPath(err))
	}
	return text, nil
}

// Make makes a confidential file, which must not be there yet.
func Make(name string, text []byte) error {
	if err := make600(name, func() ([]byte, error) { return text, nil }); err != nil {
		return fmt.Errorf("the file %s cannot be made: %w", name, say.WithoutPath(err))
	}
	return nil
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
		return fmt.Errorf("the file %s cannot be written: %w", name, say.WithoutPath(err))
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
	return b.now()[0].seal(text, purpose)
}

func (k key) seal(text, purpose string) []byte {
	nonce := make([]byte, k.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return k.aead.Seal(nonce, nonce, []byte(text), []byte(purpose))
}

// Open returns the text back.
func (b *Box) Open(sealed []byte, purpose string) (string, error) {
	text, _, err := open(b.now(), sealed, purpose)
	return text, err
}

// open returns the text, and by which of the keys it was sealed.
func open(keys []key, sealed []byte, purpose string) (text string, by int, err error) {
	for i, k := range keys {
		n := k.aead.NonceSize()
		if len(sealed) < n {
			return "", 0, errors.New("what was sealed is cut short")
		}
		if text, err := k.aead.Open(nil, sealed[:n], sealed[n:], []byte(purpose)); err == nil {
			return string(text), i, nil
		}
	}
	return "", 0, errors.New("it was sealed with another secret; is VARNET_SECRET, or the file of -secret-file, the one it was sealed with?")
}

// Reseal seals with the present secret what was sealed with one before; nil: it is already.
func (b *Box) Reseal(sealed []byte, purpose string) ([]byte, error) {
	keys := b.now()
	text, by, err := open(keys, sealed, purpose)
	if err != nil || by == 0 {
		return nil, err
	}
	return keys[0].seal(text, purpose), nil
}
