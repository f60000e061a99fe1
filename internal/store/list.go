package store

import (
	"cmp"
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/sheet"
)

// List is rows somebody brought in.
type List struct {
	ID          int64
	WorkspaceID int64
	Name        string
	FileName    string
	// Format is what the file was, Sheet which sheet of it was read, Packed
	// what it was packed in.
	Format, Sheet, Packed string
	Dialect               sheet.Dialect
	Columns               []string
	AddressColumn         int
	Header                []byte
	ListCounts
	CreatedAt time.Time
}

// ListCounts says what was read.
type ListCounts struct {
	Rows       int64
	Addresses  int64
	Malformed  int64
	Duplicates int64
	Blank      int64
	Mended     int64
}

const listColumns = `id, workspace_id, name, file_name, format, sheet, packed, dialect, columns, address_column, header, rows, addresses, malformed,
	duplicates, blank, mended, created_at`

// Row is one row of a list as it is brought in.
type Row struct {
	Ordinal int32
	Line    int64
	Raw     []byte
	Tail    []byte
	Typed   string
	// Address is the ordinal of the first row with the same address, 0 where
	// the cell is empty. The fields below are set on that first row only.
	Address int32
	Mailbox string
	Domain  string
	Traits  []string
	Mended  []string
	Problem *Problem
}

// Problem is why a cell holds no address.
type Problem struct {
	Cause    string `json:"cause"`
	Position int    `json:"position,omitempty"`
	Reason   string `json:"reason"`
}

// CreateList makes a list without rows and gives it its ID. It belongs in the
// transaction that brings in the rows.
func (s *Store) CreateList(ctx context.Context, l *List) error {
	return s.db.QueryRow(ctx, `
		INSERT INTO list (workspace_id, name, file_name, format, sheet, packed, dialect, columns, address_column, header)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id, created_at`,
		l.WorkspaceID, l.Name, l.FileName, l.Format, l.Sheet, l.Packed, l.Dialect, l.Columns, l.AddressColumn, l.Header).Scan(&l.ID, &l.CreatedAt)
}

// CopyRows brings in rows as next gives them, until it gives none.
func (s *Store) CopyRows(ctx context.Context, listID int64, next func() (*Row, error)) error {
	var failed error // what next said, before PostgreSQL wraps it
	_, err := s.db.CopyFrom(ctx, pgx.Identifier{"list_row"},
		[]string{"list_id", "ordinal", "line", "raw", "tail", "typed", "address", "mailbox", "domain", "traits", "mended", "problem"},
		pgx.CopyFromFunc(func() ([]any, error) {
			r, err := next()
			if r == nil || err != nil {
				failed = err
				return nil, err
			}
			return []any{listID, r.Ordinal, r.Line, r.Raw, r.Tail, r.Typed, orNull(r.Address), orNull(r.Mailbox), orNull(r.Domain),
				r.Traits, r.Mended, r.Problem}, nil
		}))
	return cmp.Or(failed, err)
}

func orNull[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// CompleteList records the counts and the domains of a list brought in.
func (s *Store) CompleteList(ctx context.Context, l *List, domains map[string]int32) error {
	_, err := s.db.Exec(ctx, `UPDATE list SET rows = $2, addresses = $3, malformed = $4, duplicates = $5, blank = $6, mended = $7 WHERE id = $1`,
		l.ID, l.Rows, l.Addresses, l.Malformed, l.Duplicates, l.Blank, l.Mended)
	if err != nil {
		return err
	}
	var rows [][]any
	for d, n := range domains {
		rows = append(rows, []any{l.ID, d, n})
	}
	_, err = s.db.CopyFrom(ctx, pgx.Identifier{"list_domain"}, []string{"list_id", "domain", "addresses"}, pgx.CopyFromRows(rows))
	return err
}

// Lists gives a page of the workspace's lists, newest first: those with an ID
// below before (0: from the newest).
func (s *Store) Lists(ctx context.Context, workspace, before int64, limit int) ([]List, error) {
	return many[List](ctx, s.db, `SELECT `+listColumns+` FROM list WHERE workspace_id = $1 AND ($2 = 0 OR id < $2) ORDER BY id DESC LIMIT $3`,
		workspace, before, limit)
}

// List gives one list of the workspace.
func (s *Store) List(ctx context.Context, workspace, id int64) (List, error) {
	return one[List](ctx, s.db, `SELECT `+listColumns+` FROM list WHERE workspace_id = $1 AND id = $2`, workspace, id)
}

// DeleteList deletes a list with its rows, runs, results and evidence.
func (s *Store) DeleteList(ctx context.Context, workspace, id int64) error {
	tag, err := s.db.Exec(ctx, "DELETE FROM list WHERE workspace_id = $1 AND id = $2", workspace, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// Trouble is a row that is not a plain address of its own.
type Trouble struct {
	Line    int64
	Ordinal int32
	Typed   string
	Address *int32
	// First is the line of the earlier row with the same address.
	First   *int64
	Mended  []string
	Problem *Problem
}

// EachTrouble gives the rows of a list that hold no address, one that stands in
// an earlier row, or one that had to be mended.
func (s *Store) EachTrouble(ctx context.Context, list int64, do func(*Trouble) error) error {
	rows, err := s.db.Query(ctx, `
		SELECT r.line, r.ordinal, r.typed, r.address, f.line, coalesce(r.mended, '{}'), coalesce(r.problem, f.problem)
		FROM list_row r LEFT JOIN list_row f ON f.list_id = r.list_id AND f.ordinal = r.address AND r.address <> r.ordinal
		WHERE r.list_id = $1 AND (r.address IS NULL OR r.address <> r.ordinal OR r.problem IS NOT NULL OR cardinality(r.mended) > 0)
		ORDER BY r.ordinal`, list)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var t Trouble
		if err := rows.Scan(&t.Line, &t.Ordinal, &t.Typed, &t.Address, &t.First, &t.Mended, &t.Problem); err != nil {
			return err
		}
		if err := do(&t); err != nil {
			return err
		}
	}
	return rows.Err()
}

// OutRow is a row on its way out of a list.
type OutRow struct {
	Ordinal int32
	Raw     []byte
	Tail    []byte
	// Address is 0 for an empty cell.
	Address int32
	// Verdict is 0 while the address has no result in the run; At is when it
	// was found.
	Verdict int32
	At      *time.Time
}

// EachRow gives the rows of a run's list in order, with the verdicts of their
// addresses, one by one; nothing is held in memory.
func (s *Store) EachRow(ctx context.Context, run Run, do func(*OutRow) error) error {
	rows, err := s.db.Query(ctx, `
		SELECT r.ordinal, r.raw, r.tail, coalesce(r.address, 0), coalesce(x.verdict, 0), x.at
		FROM list_row r LEFT JOIN result x ON x.run_id = $2 AND x.address = r.address
		WHERE r.list_id = $1 ORDER BY r.ordinal`, run.ListID, run.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var o OutRow
		if err := rows.Scan(&o.Ordinal, &o.Raw, &o.Tail, &o.Address, &o.Verdict, &o.At); err != nil {
			return err
		}
		if err := do(&o); err != nil {
			return err
		}
	}
	return rows.Err()
}
