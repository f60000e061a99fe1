package backup_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/jackc/pgx/v5"

	"varnet/internal/backup"
	"varnet/internal/testkit"
)

// on runs statements on a database, and returns what the last of them answers.
func on(t *testing.T, dsn string, statements ...string) (answer string) {
	t.Helper()
	c, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = c.Close(context.WithoutCancel(t.Context())) }()
	for i, s := range statements {
		if i < len(statements)-1 {
			_, err = c.Exec(t.Context(), s)
		} else {
			err = c.QueryRow(t.Context(), s).Scan(&answer)
		}
		if err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	return answer
}

const (
	allRows   = "SELECT string_agg(id || ' ' || name || ' ' || coalesce(note, 'null'), '; ' ORDER BY id) FROM seed WHERE id <= 3"
	allTables = "SELECT count(*)::text FROM pg_tables WHERE schemaname = 'public'"
)

// shelf is a database with seeds in it.
func shelf(t *testing.T) (dsn, rows string) {
	dsn = testkit.EmptyDatabase(t)
	return dsn, on(t, dsn, "CREATE TABLE seed (id bigint PRIMARY KEY, name text NOT NULL, note text)",
		"INSERT INTO seed VALUES (1, 'Runner bean', E'tab\\t, \\u00e9 and \\\\'), (2, '', NULL)",
		"INSERT INTO seed SELECT n, 'Pea ' || n, repeat(md5(n::text), 20) FROM generate_series(3, 3000) n", allRows)
}

func any(backup.Head) error { return nil }

var head = backup.Head{Release: "1.0.4", Schema: 48, At: time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)}

func keyed(t *testing.T) (age.Recipient, age.Identity) {
	t.Helper()
	k, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	return k.Recipient(), k
}

// written is a backup of a database.
func written(t *testing.T, dsn string, keys ...age.Recipient) []byte {
	t.Helper()
	var out bytes.Buffer
	if err := backup.Write(t.Context(), dsn, &out, head, keys); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// TestThereAndBack: what is written is read back as it was, encrypted or not; who lacks the key reads nothing.
func TestThereAndBack(t *testing.T) {
	dsn, rows := shelf(t)
	public, private := keyed(t)
	_, other := keyed(t)
	plain, sealed := written(t, dsn), written(t, dsn, public)
	if bytes.Contains(sealed, []byte("Varnet backup")) || !bytes.HasPrefix(plain, []byte("Varnet backup 1\n")) {
		t.Error("what is encrypted can be read, or what is not cannot")
	}
	for _, c := range []struct {
		name string
		of   []byte
		key  age.Identity
		want error
	}{
		{"plain", plain, nil, nil},
		{"plain, with a key", plain, private, nil},
		{"encrypted", sealed, private, nil},
		{"encrypted, without a key", sealed, nil, backup.ErrEncrypted},
		{"encrypted, with another key", sealed, other, backup.ErrNoKey},
		{"something else", []byte("PGDMP and so on"), nil, backup.ErrNone},
		{"nothing", nil, nil, backup.ErrNone},
	} {
		to := testkit.EmptyDatabase(t)
		got, err := backup.Restore(t.Context(), to, bytes.NewReader(c.of), c.key, any)
		if !errors.Is(err, c.want) || c.want == nil && err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if c.want == nil && (got != head || on(t, to, allRows) != rows) {
			t.Errorf("%s: %+v, and %s", c.name, got, on(t, to, allRows))
		}
		if c.want != nil && on(t, to, allTables) != "0" {
			t.Errorf("%s: the database is not empty any more", c.name)
		}
	}
}

// TestRefused: a backup that is refused by its head is not read, and one that goes into a database with something in it
// leaves that as it was.
func TestRefused(t *testing.T) {
	dsn, rows := shelf(t)
	of := written(t, dsn)
	to := testkit.EmptyDatabase(t)
	refused := errors.New("it is of a later release")
	if got, err := backup.Restore(t.Context(), to, bytes.NewReader(of), nil, func(backup.Head) error { return refused }); !errors.Is(err, refused) || got != head || on(t, to, allTables) != "0" {
		t.Errorf("%+v, %v", got, err)
	}
	on(t, dsn, "UPDATE seed SET name = 'Broad bean' WHERE id = 1", "SELECT 'done'")
	if _, err := backup.Restore(t.Context(), dsn, bytes.NewReader(of), nil, any); err == nil || !strings.Contains(err.Error(), "already exists") {
		t.Error(err)
	}
	if got := on(t, dsn, allRows); got != strings.Replace(rows, "Runner bean", "Broad bean", 1) {
		t.Errorf("it holds %s", got)
	}
}

// TestDamaged: of a backup that is cut short, or changed where it is encrypted, nothing is read in.
func TestDamaged(t *testing.T) {
	dsn, _ := shelf(t)
	public, private := keyed(t)
	for name, of := range map[string][]byte{"plain": written(t, dsn), "encrypted": written(t, dsn, public)} {
		for _, cut := range []int{20, len(of) / 2, len(of) - 200} {
			to := testkit.EmptyDatabase(t)
			if _, err := backup.Restore(t.Context(), to, bytes.NewReader(of[:cut]), private, any); err == nil || err.Error() == "" || on(t, to, allTables) != "0" {
				t.Errorf("%s, cut at %d of %d bytes: %v, and %s tables", name, cut, len(of), err, on(t, to, allTables))
			}
		}
	}
	of := written(t, dsn, public)
	of[len(of)/2] ^= 1
	to := testkit.EmptyDatabase(t)
	if _, err := backup.Restore(t.Context(), to, bytes.NewReader(of), private, any); err == nil || on(t, to, allTables) != "0" {
		t.Errorf("one bit is another: %v, and %s tables", err, on(t, to, allTables))
	}
}

// full takes so many bytes.
type full struct{ room int }

var errFull = errors.New("no space left on device")

func (f *full) Write(p []byte) (int, error) {
	if f.room -= len(p); f.room < 0 {
		return 0, errFull
	}
	return len(p), nil
}

// TestFullDisk: what could not be written is why a backup fails.
func TestFullDisk(t *testing.T) {
	dsn, _ := shelf(t)
	public, _ := keyed(t)
	for _, room := range []int{0, 10, 300, 20_000} {
		if err := backup.Write(t.Context(), dsn, &full{room}, head, nil); !errors.Is(err, errFull) {
			t.Errorf("with room for %d bytes: %v", room, err)
		}
		if err := backup.Write(t.Context(), dsn, &full{room}, head, []age.Recipient{public}); !errors.Is(err, errFull) {
			t.Errorf("encrypted, with room for %d bytes: %v", room, err)
		}
	}
	if err := backup.Write(t.Context(), "postgres://nobody@127.0.0.1:1/none", io.Discard, head, nil); err == nil || !strings.Contains(err.Error(), "127.0.0.1") {
		t.Error(err)
	}
}

// TestKeys: keys are made once, and read back; what is none is said to be.
func TestKeys(t *testing.T) {
	file := filepath.Join(t.TempDir(), "backup.key")
	public, err := backup.NewKey(file)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := backup.NewKey(file); err == nil {
		t.Error("a key that is there was written over")
	}
	if k, err := backup.PrivateKey(file); err != nil || k == nil {
		t.Error(err)
	}
	if keys, err := backup.PublicKeys([]string{public}); err != nil || len(keys) != 1 {
		t.Error(err)
	}
	if _, err := backup.PublicKeys([]string{public, "age1quince"}); err == nil || !strings.HasPrefix(err.Error(), `"age1quince" is not a public key`) {
		t.Error(err)
	}
}
