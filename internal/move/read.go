package move

import (
	"archive/zip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/internal/rights"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// Reader reads workspaces in.
type Reader struct {
	Store   *store.Store
	Secrets *secret.Box
}

// ErrNone tells that a file is not a workspace.
var ErrNone = errors.New("this is not a workspace of Varnet; \"varnet team export\" writes one")

// Read takes a workspace in, all of it or nothing, and returns what it is and its number here. It
// is for who looks after the installation: what it reads becomes part of the database as it is,
// like a backup. owner is a person, who becomes its owner.
func (r *Reader) Read(ctx context.Context, file *zip.Reader, owner int64) (head Head, workspace int64, err error) {
	if head, err = headOf(file); err != nil {
		return head, 0, err
	}
	schema, err := r.Store.Schema(ctx)
	if err != nil {
		return head, 0, err
	}
	if head.Schema != schema {
		return head, 0, fmt.Errorf("the workspace has schema %d, of release %s, and this database has %d; bring both installations to the same release, and export it again", head.Schema, head.Release, schema)
	}
	r.Store.FingerprintBy(rights.Fingerprints(r.Secrets))
	err = r.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		in := reading{file: file, head: head}
		if err := in.begin(ctx, s, r.Secrets); err != nil {
			return err
		}
		workspace = in.workspace
		if err := in.records(ctx); err != nil {
			return err
		}
		if err := s.Join(ctx, workspace, owner, "owner"); err != nil {
			return err
		}
		return in.mover.Settle(ctx)
	})
	return head, workspace, err
}

// headOf reads what a zip says of itself.
func headOf(file *zip.Reader) (h Head, err error) {
	f, err := file.Open(headFile)
	if err != nil {
		return h, ErrNone
	}
	defer f.Close()
	if err := json.NewDecoder(io.LimitReader(f, 1<<20)).Decode(&h); err != nil || h.Form != form {
		return h, ErrNone
	}
	return h, nil
}

type reading struct {
	file      *zip.Reader
	head      Head
	mover     *store.Mover
	workspace int64
}

// begin makes the workspace.
func (r *reading) begin(ctx context.Context, s *store.Store, secrets *secret.Box) error {
	verdicts := map[int32]finding.Verdict{}
	err := lines(r.file, verdictsFile, func(v verdict) error {
		verdicts[v.ID] = finding.Verdict{Finding: v.Finding, Cause: v.Cause, Traits: v.Traits, Odds: v.Odds}
		return nil
	})
	if err != nil {
		return err
	}
	h := r.head
	of := store.MovedWorkspace{Name: h.Name, CreatedAt: h.CreatedAt, KeepDays: h.KeepDays, SecondFactor: h.SecondFactor, ReadersExport: h.ReadersExport, ShareOutcomes: h.ShareOutcomes}
	if of.Rules, err = json.Marshal(h.Rules); err != nil {
		return err
	}
	if h.ErasedKey != "" {
		of.ErasedKey = secrets.Seal(h.ErasedKey, rights.KeyPurpose)
	}
	r.mover, r.workspace, err = s.MoveIn(ctx, of, verdicts)
	return err
}

func (r *reading) records(ctx context.Context) error {
	for _, table := range store.MovedTables() {
		n := int64(0)
		err := lines(r.file, recordsFile(table), func(m store.MovedRecord) error {
			n++
			return r.mover.Take(ctx, table, m)
		})
		if err != nil {
			return err
		}
		if n != r.head.Records[table] {
			return fmt.Errorf("the file is damaged: it has %d records of %s instead of %d", n, table, r.head.Records[table])
		}
	}
	return lines(r.file, rememberedFile, func(m store.Remembered) error { return r.mover.Remember(ctx, m) })
}

// lines calls do with every line of a file of JSON lines.
func lines[T any](file *zip.Reader, name string, do func(T) error) error {
	f, err := file.Open(name)
	if err != nil {
		return fmt.Errorf("the file is damaged: %s is missing", name)
	}
	defer f.Close()
	for in, line := json.NewDecoder(f), 1; ; line++ {
		var one T
		err := in.Decode(&one)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = do(one)
		}
		if err != nil {
			return fmt.Errorf("%s, record %d: %w", name, line, err)
		}
	}
}
