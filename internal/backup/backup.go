// Package backup writes a database to one stream and reads it back. What PostgreSQL's own
// pg_dump says of one moment goes through as it comes; nothing is held. It may be encrypted to
// public keys, so that the machine that makes backups cannot read them.
//
//	err := backup.Write(ctx, dsn, out, backup.Head{Release: "0.8.0", Schema: 31, At: now}, keys)
//	head, err := backup.Restore(ctx, dsn, in, private, check)
package backup

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"

	"filippo.io/age"
)

// magic begins a backup, and says the version of its form.
const magic = "Varnet backup 1\n"

// encrypted begins one that is encrypted (the form of age, version 1).
const encrypted = "age-encryption.org/"

// Head is what a backup says of itself.
type Head struct {
	Release string    `json:"release"`
	Schema  int64     `json:"schema"`
	At      time.Time `json:"at"` // when it was begun, which is the moment that it holds
}

// Write writes a database as it is at one moment. Where there are keys, only who has the
// private part of one can read it.
func Write(ctx context.Context, dsn string, out io.Writer, head Head, keys []age.Recipient) (err error) {
	if len(keys) > 0 {
		sealed, err := age.Encrypt(out, keys...)
		if err != nil {
			return fmt.Errorf("encrypt the backup: %w", err)
		}
		return errors.Join(write(ctx, dsn, sealed, head), sealed.Close())
	}
	return write(ctx, dsn, out, head)
}

func write(ctx context.Context, dsn string, out io.Writer, head Head) error {
	if _, err := io.WriteString(out, magic); err != nil {
		return err
	}
	if err := json.NewEncoder(out).Encode(head); err != nil {
		return err
	}
	dump, err := command(ctx, dsn, "pg_dump", "--format=custom", "--compress=1", "--no-owner", "--no-acl", "--no-unlogged-table-data")
	if err != nil {
		return err
	}
	to := &noting{Writer: out}
	dump.Stdout = to
	err = run(dump)
	return cmp.Or(to.err, err)
}

// noting is a writer that notes why it took no more: the program that writes sees a broken pipe alone.
type noting struct {
	io.Writer
	err error
}

func (w *noting) Write(p []byte) (int, error) {
	n, err := w.Writer.Write(p)
	w.err = cmp.Or(w.err, err)
	return n, err
}

// Errors of a backup that cannot be read.
var (
	ErrNone      = errors.New("this is not a backup of Varnet; \"varnet backup\" makes one")
	ErrEncrypted = errors.New("the backup is encrypted; name the file with the private key by -key")
	ErrNoKey     = errors.New("the backup is encrypted to other keys than the one in the file of -key")
)

// Restore reads a backup into a database that is empty, all of it or nothing. check may refuse
// it by what it says of itself.
func Restore(ctx context.Context, dsn string, in io.Reader, key age.Identity, check func(Head) error) (head Head, err error) {
	from, head, err := open(in, key)
	if err != nil {
		return head, err
	}
	if err := check(head); err != nil {
		return head, err
	}
	restore, err := command(ctx, dsn, "pg_restore", "--no-owner", "--no-acl", "--exit-on-error", "--single-transaction")
	if err != nil {
		return head, err
	}
	restore.Stdin = from
	return head, run(restore)
}

// open reads the head of a backup, and returns what comes after it.
func open(in io.Reader, key age.Identity) (*bufio.Reader, Head, error) {
	var head Head
	from := bufio.NewReaderSize(in, 1<<16)
	if begins(from, encrypted) {
		if key == nil {
			return nil, head, ErrEncrypted
		}
		plain, err := age.Decrypt(from, key)
		var other *age.NoIdentityMatchError
		switch {
		case errors.As(err, &other):
			return nil, head, ErrNoKey
		case err != nil:
			return nil, head, fmt.Errorf("the backup cannot be decrypted: %w", err)
		}
		from = bufio.NewReaderSize(plain, 1<<16)
	}
	if !begins(from, magic) {
		return nil, head, ErrNone
	}
	_, _ = from.Discard(len(magic))
	line, err := from.ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &head)
	}
	if err != nil {
		return nil, head, fmt.Errorf("the head of the backup is damaged: %w", err)
	}
	return from, head, nil
}

func begins(r *bufio.Reader, with string) bool {
	head, _ := r.Peek(len(with))
	return string(head) == with
}

// command is a program of PostgreSQL on a database. Its password is nowhere that other users of
// the machine could see it.
func command(ctx context.Context, dsn, program string, args ...string) (*exec.Cmd, error) {
	at, err := exec.LookPath(program)
	if err != nil {
		return nil, fmt.Errorf("%s is needed, of PostgreSQL's client programs; install postgresql-client", program)
	}
	place, password, err := withoutPassword(dsn)
	if err != nil {
		return nil, err
	}
	c := exec.CommandContext(ctx, at, append(args, "--no-password", "--dbname="+place)...)
	c.Env = os.Environ()
	if password != "" {
		c.Env = append(c.Env, "PGPASSWORD="+password)
	}
	return c, nil
}

// run runs a program, and returns what it says as the error.
func run(c *exec.Cmd) error {
	var said bytes.Buffer
	c.Stderr = &said
	err := c.Run()
	var exit *exec.ExitError
	if words := strings.TrimSpace(said.String()); errors.As(err, &exit) && words != "" {
		return errors.New(words)
	}
	return err
}
