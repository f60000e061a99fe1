// Package rights answers the persons whose addresses are kept: what is held about one, as a file
// they can read; that it is erased; and that it is neither kept nor asked about when it comes
// again. Of an erased address only a fingerprint is left, keyed with a secret of the workspace.
package rights

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"fmt"

	"golang.org/x/net/idna"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/erase"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// Desk is where requests are answered.
type Desk struct {
	Store   *store.Store
	Secrets *secret.Box
	Grammar address.Grammar
}

// KeyPurpose is what the keys of fingerprints are sealed for.
const KeyPurpose = "erased addresses"

// addressPurpose is what an address is sealed for while it is being erased.
const addressPurpose = "address to be erased"

// Reseal seals the keys with the present secret, and returns how many there are.
func (d *Desk) Reseal(ctx context.Context) (int, error) {
	return d.Store.Reseal(ctx, store.ErasedKeys, func(_ string, sealed []byte) ([]byte, error) { return d.Secrets.Reseal(sealed, KeyPurpose) })
}

// eraser finds addresses by their identity: all spellings that the operator of a domain takes for
// the same mailbox are one. What is shipped tells which, so that an entry of somebody's own does
// not make another address of one that was erased.
func (d *Desk) eraser(gone func(identity string) bool) erase.Eraser {
	return erase.Eraser{Gone: gone, Same: catalogue.Default().Sameness, Grammar: d.Grammar}
}

// subject is an address that somebody asks about.
type subject struct {
	address.Address
	identity string
	eraser   erase.Eraser
	domain   store.Spellings
}

// subject reads an address; an address.Error tells why it is none.
func (d *Desk) subject(typed string) (s subject, err error) {
	a, err := d.Grammar.Parse(typed)
	if err != nil {
		return s, err
	}
	s = subject{Address: a, domain: store.Spellings{a.Domain}}
	if unicode, err := idna.ToUnicode(a.Domain); err == nil && unicode != a.Domain {
		s.domain = append(s.domain, unicode)
	}
	s.eraser = d.eraser(func(identity string) bool { return identity == s.identity })
	s.identity, s.eraser.Domains = s.eraser.Identity(a.Mailbox()), s.domain
	return s, nil
}

// key returns the secret of a workspace's fingerprints; nil where nothing was erased in it.
func (d *Desk) key(ctx context.Context, s *store.Store, workspace int64) ([]byte, error) {
	sealed, err := s.ErasedKey(ctx, workspace)
	if err != nil {
		return nil, err
	}
	return d.opened(workspace, sealed)
}

func (d *Desk) opened(workspace int64, sealed []byte) ([]byte, error) {
	if sealed == nil {
		return nil, nil
	}
	key, err := d.Secrets.Open(sealed, KeyPurpose)
	if err != nil {
		return nil, fmt.Errorf("the secret of what was erased in workspace %d: %w", workspace, err)
	}
	return []byte(key), nil
}

// newKey returns that secret, and makes it where there is none.
func (d *Desk) newKey(ctx context.Context, workspace int64) ([]byte, error) {
	if err := d.Store.KeepErasedKey(ctx, workspace, d.Secrets.Seal(secret.Random(), KeyPurpose)); err != nil {
		return nil, err
	}
	return d.key(ctx, d.Store, workspace)
}

// print is the keyed fingerprint of an identity (HMAC-SHA256).
func print(key []byte, identity string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(identity))
	return h.Sum(nil)
}

// Gone is what store.EraseBy wants.
func (d *Desk) Gone(ctx context.Context, s *store.Store, workspace int64) (*erase.Eraser, error) {
	key, err := d.key(ctx, s, workspace)
	if err != nil || key == nil {
		return nil, err
	}
	prints, err := s.Erased(ctx, workspace)
	if err != nil || len(prints) == 0 {
		return nil, err
	}
	e := d.eraser(func(identity string) bool { return prints[string(print(key, identity))] })
	return &e, nil
}

// Erased reports whether an address was erased in a workspace, whose key (store.Store.ErasedKey) is sealed.
func (d *Desk) Erased(ctx context.Context, workspace int64, sealed []byte, a address.Address) (bool, error) {
	key, err := d.opened(workspace, sealed)
	if err != nil || key == nil {
		return false, err
	}
	at, err := d.Store.ErasedAt(ctx, workspace, print(key, d.eraser(nil).Identity(a.Mailbox())))
	return at != nil, err
}

// Fingerprints are how what is remembered of addresses apart from lists knows them, for
// store.FingerprintBy: by all secrets of the installation, the present one's first.
func Fingerprints(box *secret.Box) func() store.Fingerprints {
	return func() store.Fingerprints {
		printsOf := box.Printer("absence")
		return func(text string) (out []store.Fingerprint) {
			for _, p := range printsOf(text) {
				out = append(out, store.Fingerprint(p))
			}
			return out
		}
	}
}
