package store

import (
	"context"
	"iter"
	"math"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/sheet"
)

// List is rows somebody imported.
type List struct {
	ID          int64
	WorkspaceID int64
	// Key is what it was imported with; "" for none.
	Key      string
	Name     string
	FileName string
	// Format is what the file was, Sheet which sheet of it was read, Packed
	// what it was packed in.
	Format, Sheet, Packed string
	Dialect               sheet.Dialect
	Columns               []string
	// AddressColumns are the columns that hold addresses, from 0, in the order
	// in which they are to be used.
	AddressColumns []int
	Kinds          []sheet.Kind
	Header         []byte
	ListCounts
	// Erasures is how often something was erased of it.
	Erasures int32
	// EarlierID is the list whose rows these were before a file was imported
	// again; Added and Changed count what that file did.
	EarlierID      *int64
	Added, Changed int64
	// KeepDays is for how long it is kept; nil: as long as the workspace's others.
	KeepDays  *int
	CreatedAt time.Time
	// ArchivedAt is when it was archived; nil: it was not.
	ArchivedAt *time.Time
	// ConnectionID and Collection are where it came from; nil: a file. Of contacts the first
	// column is the key.
	ConnectionID *int64
	Collection   string
	// Meanings are what its columns hold; nil: what their names tell.
	Meanings []sheet.Meaning
	// MadeOf is of what it was made in the workshop, a sentence a step; none: it was imported.
	MadeOf []string
}

// Means returns what its columns hold: as somebody said, or else as their names tell.
func (l List) Means() []sheet.Meaning {
	if l.Meanings != nil {
		return l.Meanings
	}
	return sheet.GuessMeanings(l.Columns)
}

// ListCounts says what was read.
type ListCounts struct {
	Rows       int64
	Addresses  int64
	Malformed  int64
	Duplicates int64
	Blank      int64
	Mended     int64
	// Formulas counts rows with a cell that a spreadsheet would run as a
	// formula.
	Formulas int64
	// Erased counts rows that are blank because their address was erased.
	Erased int64
}

// Count adds a row with some address cells to what its cells tell; times is -1 to take it away.
func (c *ListCounts) Count(cells []*Row, times int64) {
	filled, first := false, false
	for _, cell := range cells {
		filled = filled || cell.Address != 0
		switch first = first || cell.First(); {
		case !cell.First():
		case cell.Problem != nil:
			c.Malformed += times
		default:
			c.Addresses += times
			if len(cell.Mended) > 0 {
				c.Mended += times
			}
		}
	}
	switch {
	case !filled:
		c.Blank += times
	case !first:
		c.Duplicates += times
	}
}

const listColumns = `id, workspace_id, coalesce(key, '') AS key, name, file_name, format, sheet, packed, dialect, columns, address_columns, kinds, header, rows, addresses, malformed,
	duplicates, blank, mended, formulas, erased, erasures, earlier_id, added, changed, keep_days, created_at, archived_at, connection_id, collection, meanings, made_of`

// CreateList makes a list without rows and gives it its ID. It belongs in the
// transaction that imports the rows.
func (s *Store) CreateList(ctx context.Context, l *List) error {
	return s.db.QueryRow(ctx, `
		INSERT INTO list (workspace_id, name, file_name, format, sheet, packed, dialect, columns, address_columns, kinds, header, earlier_id, key, connection_id, collection, meanings, made_of)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17) RETURNING id, created_at`,
		l.WorkspaceID, l.Name, l.FileName, l.Format, l.Sheet, l.Packed, l.Dialect, l.Columns, l.AddressColumns, l.Kinds, l.Header, l.EarlierID, orNull(l.Key != "", l.Key), l.ConnectionID, l.Collection, orNull(l.Meanings != nil, l.Meanings), l.MadeOf).Scan(&l.ID, &l.CreatedAt)
}

// orNull is a value where there is one, and null otherwise.
func orNull(there bool, v any) any {
	if !there {
		return nil
	}
	return v
}

// CompleteList records the counts of a list imported, and how many addresses each of its domains
// has.
func (s *Store) CompleteList(ctx context.Context, l *List, domains iter.Seq2[string, int32]) error {
	_, err := s.db.Exec(ctx, `UPDATE list SET rows = $2, addresses = $3, malformed = $4, duplicates = $5, blank = $6, mended = $7, formulas = $8, added = $9, changed = $10, erased = $11 WHERE id = $1`,
		l.ID, l.Rows, l.Addresses, l.Malformed, l.Duplicates, l.Blank, l.Mended, l.Formulas, l.Added, l.Changed, l.Erased)
	if err != nil {
		return err
	}
	domain, stop := iter.Pull2(domains)
	defer stop()
	_, err = s.db.CopyFrom(ctx, pgx.Identifier{"list_domain"}, []string{"list_id", "domain", "addresses"}, pgx.CopyFromFunc(func() ([]any, error) {
		name, addresses, more := domain()
		if !more {
			return nil, nil
		}
		return []any{l.ID, name, addresses}, nil
	}))
	return err
}

// ListOrder is an order of lists.
type ListOrder string

// The orders of lists.
const (
	NewestFirst  ListOrder = "newest"
	ByName       ListOrder = "name"
	LargestFirst ListOrder = "largest"
)

// ListFilter chooses lists, and where a page of them begins.
type ListFilter struct {
	Search   string // a part of the name, whatever the case
	Archived bool   // those that are archived, instead of the others
	Order    ListOrder
	// After is the last list of the page before, as far as the order looks at it.
	After ListPlace
	Limit int
}

// ListPlace is the place of a list in any order; ID 0 is before all.
type ListPlace struct {
	ID   int64
	Name string
	Rows int64
}

// places are the orders in SQL: the condition that a list comes after the place ($4 ID,
// $5 name, $6 rows), and the order itself. Each names all three, so that PostgreSQL knows
// their types.
var places = map[ListOrder][2]string{
	NewestFirst:  {"id < $4 AND $5::text IS NOT NULL AND $6::bigint IS NOT NULL", "id DESC"},
	ByName:       {"(lower(name), id) > (lower($5), $4) AND $6::bigint IS NOT NULL", "lower(name), id"},
	LargestFirst: {"(rows, id) < ($6::bigint, $4) AND $5::text IS NOT NULL", "rows DESC, id DESC"},
}

// Lists returns a page of the workspace's lists. Lists that a newer file was imported for
// are left out for the newer ones.
func (s *Store) Lists(ctx context.Context, workspace int64, f ListFilter) ([]List, error) {
	place := places[f.Order]
	return many[List](ctx, s.db, `SELECT `+listColumns+` FROM list WHERE workspace_id = $1 AND (archived_at IS NOT NULL) = $2
		AND ($3 = '' OR name ILIKE $3) AND ($4::bigint = 0 OR `+place[0]+`)
		AND NOT EXISTS (SELECT FROM list newer WHERE newer.earlier_id = list.id) ORDER BY `+place[1]+` LIMIT $7`,
		workspace, f.Archived, pattern(f.Search), f.After.ID, f.After.Name, f.After.Rows, f.Limit)
}

// ListChange is what is to be changed of a list; nil leaves it.
type ListChange struct {
	Name     *string
	KeepDays *int
	Archived *bool
}

// ChangeList changes a list.
func (s *Store) ChangeList(ctx context.Context, workspace, id int64, c ListChange) error {
	tag, err := s.db.Exec(ctx, `UPDATE list SET name = coalesce($3, name), keep_days = coalesce($4, keep_days),
		archived_at = CASE $5::boolean WHEN true THEN coalesce(archived_at, now()) WHEN false THEN NULL ELSE archived_at END
		WHERE workspace_id = $1 AND id = $2`, workspace, id, c.Name, c.KeepDays, c.Archived)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// SetMeanings records what the columns of a list hold; nil: what their names tell.
func (s *Store) SetMeanings(ctx context.Context, workspace, id int64, m []sheet.Meaning) error {
	return s.changed(ctx, "UPDATE list SET meanings = $3 WHERE workspace_id = $1 AND id = $2", workspace, id, orNull(m != nil, m))
}

// ListsOf returns how many lists a workspace has.
func (s *Store) ListsOf(ctx context.Context, workspace int64) (n int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT count(*) FROM list WHERE workspace_id = $1", workspace).Scan(&n)
	return n, err
}

// List returns one list of the workspace.
func (s *Store) List(ctx context.Context, workspace, id int64) (List, error) {
	return one[List](ctx, s.db, `SELECT `+listColumns+` FROM list WHERE workspace_id = $1 AND id = $2`, workspace, id)
}

// NewestImport returns the list that came of the last file that was imported for a list, or for
// one that came of that; the list itself where there is none.
func (s *Store) NewestImport(ctx context.Context, workspace, id int64) (List, error) {
	return one[List](ctx, s.db, `WITH RECURSIVE later AS (
			SELECT id FROM list WHERE workspace_id = $1 AND id = $2
			UNION SELECT l.id FROM list l JOIN later ON l.earlier_id = later.id)
		SELECT `+listColumns+` FROM list WHERE id = (SELECT max(id) FROM later)`, workspace, id)
}

// ListsByNumber returns some lists of the workspace.
func (s *Store) ListsByNumber(ctx context.Context, workspace int64, numbers []int64) (map[int64]List, error) {
	lists, err := many[List](ctx, s.db, `SELECT `+listColumns+` FROM list WHERE workspace_id = $1 AND id = ANY($2)`, workspace, numbers)
	found := make(map[int64]List, len(lists))
	for _, l := range lists {
		found[l.ID] = l
	}
	return found, err
}

// EachCommon returns the addresses of a list that stand in another one, too, as
// troubles whose First is the line there.
func (s *Store) EachCommon(ctx context.Context, l, other List, do func(*Trouble) error) error {
	there, err := s.sameAddresses(ctx, l.ID, other.ID)
	if err != nil || len(there) == 0 {
		return err
	}
	lines := make(map[int32]int64, len(there))
	if err := s.eachCellAt(ctx, other.ID, there, false, func(r *Row) error { lines[r.Ordinal] = r.Line; return nil }); err != nil {
		return err
	}
	return s.eachCell(ctx, l.ID, 1, int32(len(there)-1), false, func(r *Row) error {
		same := there[r.Ordinal]
		if same == 0 {
			return nil
		}
		t, first := l.trouble(r), lines[same]
		t.First = &first
		return do(&t)
	})
}

// Trouble is an address cell that is not a plain address of its own.
type Trouble struct {
	Line    int64
	Row     int32
	Typed   string
	Address *int32
	// First is the line of the earlier row with the same address.
	First   *int64
	Mended  []string
	Problem *Problem
}

// Nth is which address of its cell a slot takes, from 0: a column whose cells hold several
// has several slots.
func (l *List) Nth(slot int) (n int) {
	for _, c := range l.AddressColumns[:slot] {
		if c == l.AddressColumns[slot] {
			n++
		}
	}
	return n
}

// Several reports whether cells of the list hold several addresses.
func (l *List) Several() bool {
	for slot := range l.AddressColumns {
		if l.Nth(slot) > 0 {
			return true
		}
	}
	return false
}

// trouble is a cell of the list as a trouble.
func (l *List) trouble(r *Row) Trouble {
	t := Trouble{Line: r.Line, Row: (r.Ordinal-1)/int32(len(l.AddressColumns)) + 1, Typed: r.Typed, Mended: r.Mended, Problem: r.Problem}
	if r.Address != 0 {
		address := r.Address
		t.Address = &address
	}
	return t
}

// lineNumbers are the lines of the cells of a list, in order, 4 bytes each.
type lineNumbers [][]uint32

const linesAtOnce = 1 << 16

func (l *lineNumbers) add(line int64) {
	if n := len(*l); n == 0 || len((*l)[n-1]) == linesAtOnce {
		*l = append(*l, make([]uint32, 0, linesAtOnce))
	}
	last := &(*l)[len(*l)-1]
	*last = append(*last, uint32(line))
}

// of is the line of a cell.
func (l lineNumbers) of(ordinal int32) int64 {
	return int64(l[(ordinal-1)/linesAtOnce][(ordinal-1)%linesAtOnce])
}

// EachTrouble returns the address cells of a list that hold no address, one that
// stands in an earlier cell, or one that had to be mended. An empty cell is
// given only where all of its row are.
func (s *Store) EachTrouble(ctx context.Context, l List, do func(*Trouble) error) error {
	slots := int32(len(l.AddressColumns))
	var lines lineNumbers
	problems := map[int32]*Problem{} // of the cells so far
	empty := int32(0)                // cells of the row so far
	return s.eachCell(ctx, l.ID, 1, math.MaxInt32, false, func(r *Row) error {
		lines.add(r.Line)
		if (r.Ordinal-1)%slots == 0 {
			empty = 0
		}
		switch {
		case r.Address == 0:
			if empty++; empty < slots {
				return nil
			}
			t := l.trouble(r)
			return do(&t)
		case r.First():
			if r.Problem != nil {
				problems[r.Ordinal] = r.Problem
			}
			if r.Problem == nil && len(r.Mended) == 0 {
				return nil
			}
			t := l.trouble(r)
			return do(&t)
		}
		t := l.trouble(r)
		first := lines.of(r.Address)
		t.First, t.Problem = &first, problems[r.Address]
		return do(&t)
	})
}
