package store

import (
	"context"
	"errors"
	"io"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Upload is a file on its way in, part by part.
type Upload struct {
	ID       int64
	Key      string
	Size     int64
	Received int64
}

// ErrOffset tells that a part does not begin where the last one ended.
var ErrOffset = errors.New("the part does not begin where the last one ended")

// uploadDays is for how many days after its first part an upload is kept.
const uploadDays = 1

// OpenUpload begins an upload under a key, or returns the one that was begun.
// Those that began more than a day ago are deleted.
func (s *Store) OpenUpload(ctx context.Context, workspace int64, key string, size int64) (Upload, error) {
	_, err := s.db.Exec(ctx, "DELETE FROM upload WHERE created_at < now() - make_interval(days => $1)", uploadDays)
	if err == nil {
		_, err = s.db.Exec(ctx, "INSERT INTO upload (workspace_id, key, size) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", workspace, key, size)
	}
	if err != nil {
		return Upload{}, err
	}
	return s.Upload(ctx, workspace, key)
}

// Upload returns the upload under a key.
func (s *Store) Upload(ctx context.Context, workspace int64, key string) (Upload, error) {
	return one[Upload](ctx, s.db, "SELECT id, key, size, received FROM upload WHERE workspace_id = $1 AND key = $2", workspace, key)
}

// AddPart adds the next part of an upload. One that begins elsewhere, or would
// run over the size, is ErrOffset.
func (s *Store) AddPart(ctx context.Context, u Upload, from int64, part []byte) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		tag, err := s.db.Exec(ctx, "UPDATE upload SET received = received + $3 WHERE id = $1 AND received = $2 AND received + $3 <= size", u.ID, from, len(part))
		if err == nil && tag.RowsAffected() == 0 {
			err = ErrOffset
		}
		if err == nil {
			_, err = s.db.Exec(ctx, "INSERT INTO upload_part (upload_id, start, bytes) VALUES ($1, $2, $3)", u.ID, from, part)
		}
		return err
	})
}

// Uploaded reads an upload from its beginning.
func (s *Store) Uploaded(ctx context.Context, u Upload) io.Reader {
	return &uploadReader{ctx: ctx, store: s, upload: u}
}

type uploadReader struct {
	ctx    context.Context
	store  *Store
	upload Upload
	at     int64
	part   []byte
}

func (r *uploadReader) Read(b []byte) (int, error) {
	if r.at >= r.upload.Received && len(r.part) == 0 {
		return 0, io.EOF
	}
	if len(r.part) == 0 {
		err := r.store.db.QueryRow(r.ctx, "SELECT bytes FROM upload_part WHERE upload_id = $1 AND start = $2", r.upload.ID, r.at).Scan(&r.part)
		if err != nil {
			return 0, err
		}
		r.at += int64(len(r.part))
	}
	n := copy(b, r.part)
	r.part = r.part[n:]
	return n, nil
}

// DeleteUpload deletes an upload.
func (s *Store) DeleteUpload(ctx context.Context, u Upload) error {
	_, err := s.db.Exec(ctx, "DELETE FROM upload WHERE id = $1", u.ID)
	return err
}

// ListByKey returns the list that was imported with a key.
func (s *Store) ListByKey(ctx context.Context, workspace int64, key string) (List, error) {
	return one[List](ctx, s.db, `SELECT `+listColumns+` FROM list WHERE workspace_id = $1 AND key = $2`, workspace, key)
}

// Taken tells an error that says that something of that name is there already.
func Taken(err error) bool {
	var wrong *pgconn.PgError
	return errors.As(err, &wrong) && wrong.Code == "23505" // unique_violation
}
