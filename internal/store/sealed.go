package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// Sealed names values that are kept sealed, and for long.
type Sealed int

// What is kept sealed.
const (
	RouteSecrets Sealed = iota
	LetterPasswords
	ProviderSecrets
	SecondFactors
	WebhookSecrets
	WebhookSecretsBefore
	ConnectionSecrets
	TrialPasswords
	TrialKeys
	BounceSecrets
	PaymentSecrets
	PaymentMethods
	ErasedKeys
)

// sealedIn is where they are kept: the name of each is what it belongs to.
var sealedIn = map[Sealed]struct{ table, name, column string }{
	RouteSecrets:    {"sending_part", "name", "sealed"},
	LetterPasswords: {"letter_server", "host", "sealed"},
	ProviderSecrets: {"installation", "provider_issuer", "provider_sealed"},
	SecondFactors:   {"person", "id::text", "totp"},

	WebhookSecrets:       {"webhook", "id::text", "sealed"},
	WebhookSecretsBefore: {"webhook", "id::text", "before"},

	ConnectionSecrets: {"connection", "id::text", "sealed"},

	TrialPasswords: {"trial_sender", "workspace_id::text", "sealed"},
	TrialKeys:      {"trial_sender", "workspace_id::text", "key"},

	BounceSecrets: {"bounce_source", "id::text", "sealed"},

	PaymentSecrets: {"billing", "provider", "secret_sealed"},
	PaymentMethods: {"allowance", "workspace_id::text", "method_sealed"},

	ErasedKeys: {"workspace", "id::text", "erased_key"},
}

// Reseal puts what anew makes of each sealed value in its place, all or none, and returns how
// many there are. anew returns nil for what is to stay.
func (s *Store) Reseal(ctx context.Context, what Sealed, anew func(name string, sealed []byte) ([]byte, error)) (n int, err error) {
	at := sealedIn[what]
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		type value struct {
			Name  string
			Value []byte
		}
		all, err := many[value](ctx, s.db, fmt.Sprintf("SELECT %s AS name, %s AS value FROM %s WHERE %[2]s IS NOT NULL FOR UPDATE", at.name, at.column, at.table))
		for _, v := range all {
			var fresh []byte
			if fresh, err = anew(v.Name, v.Value); err != nil {
				return err
			}
			if fresh == nil {
				continue
			}
			if _, err := s.db.Exec(ctx, fmt.Sprintf("UPDATE %s SET %s = $1 WHERE %s = $2 AND %[2]s = $3", at.table, at.column, at.name), fresh, v.Name, v.Value); err != nil {
				return err
			}
		}
		n = len(all)
		return err
	})
	return n, err
}
