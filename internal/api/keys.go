package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/account"
	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerKeys(h huma.API) {
	huma.Register(h, operation("get-keys", http.MethodGet, "/keys", "The keys of the workspace, the oldest first"), a.keys)
	huma.Register(h, creates(operation("make-key", http.MethodPost, "/keys", "Make a key; it is shown this once")), a.makeKey)
	huma.Register(h, creates(operation("rotate-key", http.MethodPost, "/keys/{id}/rotate", "Replace a key by a new one with the same terms")), a.rotateKey)
	huma.Register(h, operation("delete-key", http.MethodDelete, "/keys/{id}", "Take a key back"), a.deleteKey)
}

func (a *API) keys(ctx context.Context, _ *struct{}) (*pageOutput[contract.KnownKey], error) {
	found, err := a.store.Keys(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, func(k store.Key) contract.KnownKey { return keyBody(k, callerOf(ctx).KeyID) })), nil
}

func keyBody(k store.Key, yours int64) contract.KnownKey {
	b := contract.KnownKey{ID: k.ID, Name: k.Name, Scopes: k.Scopes, CreatedAt: k.CreatedAt, ExpiresAt: k.ExpiresAt, Networks: []string{}, Origins: append([]string{}, k.Origins...), LastUsedAt: k.LastUsedAt, Yours: k.ID == yours}
	for _, n := range k.Networks {
		b.Networks = append(b.Networks, n.String())
	}
	if k.LastUsedFrom != nil {
		b.LastUsedFrom = k.LastUsedFrom.String()
	}
	if k.VisitorDay != nil {
		b.VisitorDay = *k.VisitorDay
	}
	if k.Person != nil {
		b.Person = *k.Person
	}
	if k.MadeBy != nil {
		b.MadeBy = *k.MadeBy
	}
	return b
}

// madeKey is a key with its text, which nobody can read again.
func madeKey(k store.Key, text string) *made[contract.KnownKey] {
	b := keyBody(k, 0)
	b.Key = text
	return &made[contract.KnownKey]{fmt.Sprintf("/api/v1/keys/%d", k.ID), b}
}

func (a *API) makeKey(ctx context.Context, in *struct{ Body contract.NewKey }) (*made[contract.KnownKey], error) {
	c := callerOf(ctx)
	if err := mayGive(c, in.Body.Scopes); err != nil {
		return nil, err
	}
	terms := store.KeyTerms{Name: in.Body.Name, Scopes: in.Body.Scopes, MadeBy: unlessZero(c.KeyID), Person: unlessZero(c.PersonID)}
	if in.Body.ExpiresDays > 0 {
		end := time.Now().AddDate(0, 0, in.Body.ExpiresDays)
		terms.ExpiresAt = &end
	}
	for i, text := range in.Body.Networks {
		n, err := network(text)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("One of the networks is none.", &huma.ErrorDetail{Location: fmt.Sprintf("body.networks[%d]", i), Message: err.Error(), Value: text})
		}
		terms.Networks = append(terms.Networks, n)
	}
	if err := formTerms(&terms, in.Body); err != nil {
		return nil, err
	}
	text := account.NewKey()
	k, err := a.store.NewKey(ctx, c.WorkspaceID, text, terms)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return madeKey(k, text), nil
}

// usualVisits is how often a visitor of a form may ask a day unless it is said.
const usualVisits = 50

// formTerms are those of the key of a form, which everybody can read in its page: it does nothing
// else, and says where it may be used.
func formTerms(terms *store.KeyTerms, n contract.NewKey) error {
	wrong := func(place, why string) error {
		return huma.Error422UnprocessableEntity("The key of a form cannot be made so.", &huma.ErrorDetail{Location: place, Message: why})
	}
	if !slices.Contains(n.Scopes, string(account.Form)) {
		if len(n.Origins) > 0 || n.VisitorDay > 0 {
			return wrong("body.origins", "origins and visitorDay are for keys with the scope form")
		}
		return nil
	}
	if len(n.Scopes) > 1 {
		return wrong("body.scopes", "everybody can read the key of a form in its page; give it the scope form alone")
	}
	if len(n.Origins) == 0 {
		return wrong("body.origins", "name the origins of the pages with the form, such as https://www.fernhollow.example")
	}
	for i, o := range n.Origins {
		u, err := url.Parse(o)
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || o != u.Scheme+"://"+strings.ToLower(u.Host) {
			return wrong(fmt.Sprintf("body.origins[%d]", i), "an origin is scheme, host and port alone, in lower case, such as https://www.fernhollow.example")
		}
	}
	most := cmp.Or(n.VisitorDay, usualVisits)
	terms.Origins, terms.VisitorDay = n.Origins, &most
	return nil
}

// unlessZero is a number that may be none.
func unlessZero(n int64) *int64 {
	if n == 0 {
		return nil
	}
	return &n
}

// mayGive reports whether somebody may hand out a key with these scopes: only those that they
// have themselves.
func mayGive(c account.Caller, scopes []string) error {
	for _, s := range scopes {
		if !c.May(account.Scope(s)) {
			return huma.Error403Forbidden(fmt.Sprintf("You do not have the scope “%s” yourself, so you cannot give it to a key.", s))
		}
	}
	return nil
}

// network reads a network, or one address.
func network(text string) (netip.Prefix, error) {
	text = strings.TrimSpace(text)
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	n, err := netip.ParsePrefix(text)
	if err != nil {
		return n, fmt.Errorf("%q is not a network; write one such as 192.0.2.0/24", text)
	}
	return n.Masked(), nil
}

// usualOverlap is how long a rotated key goes on unless it is said.
const usualOverlap = 24 * time.Hour

func (a *API) rotateKey(ctx context.Context, in *struct {
	ByID
	Body contract.KeyRotation
}) (*made[contract.KnownKey], error) {
	w := callerOf(ctx)
	old, err := a.store.Key(ctx, w.WorkspaceID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if old.ExpiresAt != nil && old.ExpiresAt.Before(time.Now()) {
		return nil, huma.Error409Conflict(fmt.Sprintf("Key %d has ended. Make a new one.", in.ID))
	}
	// Whoever rotates a key has the new one.
	if err := mayGive(w, old.Scopes); err != nil {
		return nil, err
	}
	text := account.NewKey()
	overlap := usualOverlap
	if in.Body.OverlapHours != nil {
		overlap = time.Duration(*in.Body.OverlapHours) * time.Hour
	}
	k, err := a.store.RotateKey(ctx, w.WorkspaceID, in.ID, text, time.Now().Add(overlap))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return madeKey(k, text), nil
}

func (a *API) deleteKey(ctx context.Context, in *ByID) (*struct{}, error) {
	if in.ID == callerOf(ctx).KeyID {
		return nil, huma.Error409Conflict(fmt.Sprintf("You are calling with key %d. Use another one to revoke it.", in.ID))
	}
	if err := a.store.DeleteKey(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}
