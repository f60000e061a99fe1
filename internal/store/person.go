package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Person is an account.
type Person struct {
	ID        int64
	Address   string // as it was written
	Canonical string
	Name      string
	Password  *string // argon2id in PHC form; nil: signs in otherwise
	Owner     bool    // of the installation
	TOTP      []byte  // the secret of the second factor, sealed; nil: none
	TOTPStep  int64   // the latest step used
	Handle    []byte  // what their passkeys say whose they are; nil: as the secret makes it
	CreatedAt time.Time
}

const personColumns = "id, address, canonical, name, password, owner, totp, totp_step, handle, created_at"

// ErrTaken tells that there is somebody with that address, or something with that name.
var ErrTaken = errors.New("it is taken")

// taken makes ErrTaken of a unique constraint that does not hold.
func taken(err error) error {
	var told *pgconn.PgError
	if errors.As(err, &told) && told.Code == "23505" {
		return ErrTaken
	}
	return err
}

// NewPerson records a person; ErrTaken where there is one with that address.
func (s *Store) NewPerson(ctx context.Context, p Person) (Person, error) {
	made, err := one[Person](ctx, s.db, `INSERT INTO person (address, canonical, name, password, owner) VALUES ($1, $2, $3, $4, $5) RETURNING `+personColumns,
		p.Address, p.Canonical, p.Name, p.Password, p.Owner)
	return made, taken(err)
}

// Person returns a person; PersonAt the one with an address in canonical form.
func (s *Store) Person(ctx context.Context, id int64) (Person, error) {
	return one[Person](ctx, s.db, "SELECT "+personColumns+" FROM person WHERE id = $1", id)
}
func (s *Store) PersonAt(ctx context.Context, canonical string) (Person, error) {
	return one[Person](ctx, s.db, "SELECT "+personColumns+" FROM person WHERE canonical = $1", canonical)
}

// AnyOwner reports whether somebody owns the installation.
func (s *Store) AnyOwner(ctx context.Context) (any bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM person WHERE owner)").Scan(&any)
	return any, err
}

// MakeOwner makes a person an owner of the installation.
func (s *Store) MakeOwner(ctx context.Context, id int64) error {
	return s.changed(ctx, "UPDATE person SET owner = true WHERE id = $1", id)
}

// changed is a statement that is to change something; ErrNotFound where there was nothing.
func (s *Store) changed(ctx context.Context, sql string, args ...any) error {
	tag, err := s.db.Exec(ctx, sql, args...)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// SetName, SetAddress and SetPassword change what their names say of a person.
func (s *Store) SetName(ctx context.Context, id int64, name string) error {
	return s.changed(ctx, "UPDATE person SET name = $2 WHERE id = $1", id, name)
}
func (s *Store) SetAddress(ctx context.Context, id int64, address, canonical string) error {
	return taken(s.changed(ctx, "UPDATE person SET address = $2, canonical = $3 WHERE id = $1", id, address, canonical))
}
func (s *Store) SetPassword(ctx context.Context, id int64, password string) error {
	return s.changed(ctx, "UPDATE person SET password = $2 WHERE id = $1", id, password)
}

// SetTOTP gives a person a second factor, whose step was just used, with fresh recovery codes;
// a nil secret takes it away, with the codes.
func (s *Store) SetTOTP(ctx context.Context, id int64, sealed []byte, step int64, codes []string) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if err := s.changed(ctx, "UPDATE person SET totp = $2, totp_step = $3 WHERE id = $1", id, sealed, step); err != nil {
			return err
		}
		return s.SetRecoveryCodes(ctx, id, codes)
	})
}

// SetRecoveryCodes puts recovery codes in the place of those that there were.
func (s *Store) SetRecoveryCodes(ctx context.Context, id int64, codes []string) error {
	hashes := make([][]byte, len(codes))
	for i, c := range codes {
		hashes[i] = hashed(c)
	}
	_, err := s.db.Exec(ctx, "DELETE FROM recovery_code WHERE person_id = $1", id)
	if err == nil {
		_, err = s.db.Exec(ctx, "INSERT INTO recovery_code (person_id, hash) SELECT $1, unnest($2::bytea[])", id, hashes)
	}
	return err
}

// UseTOTP takes a step of the second factor; false where it, or a later one, was taken before.
func (s *Store) UseTOTP(ctx context.Context, id, step int64) (bool, error) {
	tag, err := s.db.Exec(ctx, "UPDATE person SET totp_step = $2 WHERE id = $1 AND totp_step < $2", id, step)
	return err == nil && tag.RowsAffected() == 1, err
}

// UseRecoveryCode takes a recovery code, once; false where it is none of the person's.
func (s *Store) UseRecoveryCode(ctx context.Context, id int64, code string) (bool, error) {
	tag, err := s.db.Exec(ctx, "DELETE FROM recovery_code WHERE person_id = $1 AND hash = $2", id, hashed(code))
	return err == nil && tag.RowsAffected() == 1, err
}

// RecoveryCodes returns how many recovery codes a person has left.
func (s *Store) RecoveryCodes(ctx context.Context, id int64) (n int, err error) {
	err = s.db.QueryRow(ctx, "SELECT count(*) FROM recovery_code WHERE person_id = $1", id).Scan(&n)
	return n, err
}

// Passkey is a WebAuthn credential of a person.
type Passkey struct {
	ID         int64
	PersonID   int64
	Name       string
	Credential []byte // its id
	Record     string // its public key, counter and flags, as JSON
	CreatedAt  time.Time
	LastUsedAt *time.Time
}

const passkeyColumns = "id, person_id, name, credential, record, created_at, last_used_at"

// Passkeys returns the passkeys of a person, the oldest first.
func (s *Store) Passkeys(ctx context.Context, person int64) ([]Passkey, error) {
	return many[Passkey](ctx, s.db, "SELECT "+passkeyColumns+" FROM passkey WHERE person_id = $1 ORDER BY id", person)
}

// AddPasskey records a passkey.
func (s *Store) AddPasskey(ctx context.Context, p Passkey) (Passkey, error) {
	made, err := one[Passkey](ctx, s.db, "INSERT INTO passkey (person_id, name, credential, record) VALUES ($1, $2, $3, $4) RETURNING "+passkeyColumns, p.PersonID, p.Name, p.Credential, p.Record)
	return made, taken(err)
}

// UsePasskey records that a passkey was used, with its counter as it is now.
func (s *Store) UsePasskey(ctx context.Context, credential []byte, record string) error {
	return s.changed(ctx, "UPDATE passkey SET record = $2, last_used_at = now() WHERE credential = $1", credential, record)
}

// RemovePasskey takes a passkey from a person.
func (s *Store) RemovePasskey(ctx context.Context, person, id int64) error {
	return s.changed(ctx, "DELETE FROM passkey WHERE person_id = $1 AND id = $2", person, id)
}

// KeepHandle records what the passkeys of a person say whose they are, once.
func (s *Store) KeepHandle(ctx context.Context, person int64, handle []byte) error {
	_, err := s.db.Exec(ctx, "UPDATE person SET handle = $2 WHERE id = $1 AND handle IS NULL", person, handle)
	return err
}

// WithoutHandle returns the people with passkeys and no handle that is kept.
func (s *Store) WithoutHandle(ctx context.Context) ([]Person, error) {
	return many[Person](ctx, s.db, "SELECT "+personColumns+" FROM person WHERE handle IS NULL AND EXISTS (SELECT FROM passkey WHERE person_id = person.id) ORDER BY id")
}

// PersonOfProvider returns who somebody at a sign-in provider is here; ErrNotFound: nobody yet.
func (s *Store) PersonOfProvider(ctx context.Context, issuer, subject string) (Person, error) {
	return one[Person](ctx, s.db, "SELECT "+personColumns+" FROM person WHERE id = (SELECT person_id FROM provider_account WHERE issuer = $1 AND subject = $2)", issuer, subject)
}

// LinkProvider records who somebody at a sign-in provider is here.
func (s *Store) LinkProvider(ctx context.Context, issuer, subject string, person int64) error {
	_, err := s.db.Exec(ctx, "INSERT INTO provider_account (issuer, subject, person_id) VALUES ($1, $2, $3)", issuer, subject, person)
	return taken(err)
}

// KnowsDevice reports whether a person has signed in with a device before, and remembers it;
// first is whether it is the first of all.
func (s *Store) KnowsDevice(ctx context.Context, person int64, device string) (known, first bool, err error) {
	err = s.db.QueryRow(ctx, `WITH was AS (SELECT hash FROM person_device WHERE person_id = $1),
		seen AS (INSERT INTO person_device (person_id, hash) VALUES ($1, $2) ON CONFLICT (person_id, hash) DO UPDATE SET seen_at = now())
		SELECT EXISTS (SELECT FROM was WHERE hash = $2), NOT EXISTS (SELECT FROM was)`, person, hashed(device)).Scan(&known, &first)
	return known, first, err
}

// ForgetPersonal forgets devices, tickets, sessions and attempts that no longer matter.
func (s *Store) ForgetPersonal(ctx context.Context) error {
	for _, sql := range []string{
		"DELETE FROM ticket WHERE expires_at < now()",
		"DELETE FROM person_session WHERE expires_at < now()",
		"DELETE FROM invitation WHERE expires_at < now() - interval '30 days'",
		"DELETE FROM person_device WHERE seen_at < now() - interval '400 days'",
		"DELETE FROM attempt WHERE at < now() - interval '2 days'",
	} {
		if _, err := s.db.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}
