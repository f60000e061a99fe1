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

// uploadDays is for how many days an upload is kept to which nothing comes.
const uploadDays = 1

// ErrUploads tells that a workspace has as many uploads, or as large ones, as it may.
var ErrUploads = errors.New("as many uploads as may be")

// OpenUpload begins an upload under a key, or returns the one that was begun. ErrUploads where
// the workspace has as many as it may, or as many bytes of them.
func (s *Store) OpenUpload(ctx context.Context, workspace int64, key string, size int64, most Limits) (u Upload, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if u, err = s.Upload(ctx, workspace, key); !errors.Is(err, ErrNotFound) {
			return err
		}
		// One after the other, so that what is counted holds.
		if _, err := s.db.Exec(ctx, "SELECT FROM workspace WHERE id = $1 FOR NO KEY UPDATE", workspace); err != nil {
			return err
		}
		var n, bytes int64
		if err := s.db.QueryRow(ctx, "SELECT count(*), coalesce(sum(size), 0)::bigint FROM upload WHERE workspace_id = $1", workspace).Scan(&n, &bytes); err != nil {
			return err
		}
		if n >= int64(most.Uploads) || bytes+size > int64(most.UploadMB)*1e6 {
			return ErrUploads
		}
		if _, err := s.db.Exec(ctx, "INSERT INTO upload (workspace_id, key, size) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", workspace, key, size); err != nil {
			return err
		}
		u, err = s.Upload(ctx, workspace, key)
		return err
	})
	return u, err
}

// ForgetUploads deletes the uploads to which nothing came for a day.
func (s *Store) ForgetUploads(ctx context.Context) error {
	_, err := s.db.Exec(ctx, "DELETE FROM upload WHERE used_at < now() - make_interval(days => $1)", uploadDays)
	return err
}

// Upload returns the upload under a key.
func (s *Store) Upload(ctx context.Context, workspace int64, key string) (Upload, error) {
	return one[Upload](ctx, s.db, "SELECT id, key, size, received FROM upload WHERE workspace_id = $1 AND key = $2", workspace, key)
}

// AddPart adds the next part of an upload. One that begins elsewhere, or would
// run over the size, is ErrOffset.
func (s *Store) AddPart(ctx context.Context, u Upload, from int64, part []byte) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		tag, err := s.db.Exec(ctx, "UPDATE upload SET received = received + $3, used_at = now() WHERE id = $1 AND received = $2 AND received + $3 <= size", u.ID, from, len(part))
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
