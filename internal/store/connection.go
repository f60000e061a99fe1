package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Connection is a place that contacts live in, with somebody's credentials.
type Connection struct {
	ID          int64
	WorkspaceID int64
	Name        string
	Kind        string
	Settings    map[string]string // but for those that are secret
	Sealed      []byte            // the others; nil: there are none
	Says        string            // what its last test, or its last failure, said
	BrokenAt    *time.Time        // nil: it works
	TestedAt    *time.Time
	CreatedAt   time.Time
}

const connectionColumns = "id, workspace_id, name, kind, settings, sealed, says, broken_at, tested_at, created_at"

// NewConnection records a connection and gives it its ID.
func (s *Store) NewConnection(ctx context.Context, c *Connection) error {
	return s.db.QueryRow(ctx, "INSERT INTO connection (workspace_id, name, kind, settings, sealed, says, broken_at, tested_at) VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id, created_at",
		c.WorkspaceID, c.Name, c.Kind, c.Settings, c.Sealed, c.Says, c.BrokenAt, c.TestedAt).Scan(&c.ID, &c.CreatedAt)
}

// Connections returns the connections of a workspace by name.
func (s *Store) Connections(ctx context.Context, workspace int64) ([]Connection, error) {
	return many[Connection](ctx, s.db, "SELECT "+connectionColumns+" FROM connection WHERE workspace_id = $1 ORDER BY lower(name), id", workspace)
}

// Connection returns a connection of a workspace.
func (s *Store) Connection(ctx context.Context, workspace, id int64) (Connection, error) {
	return one[Connection](ctx, s.db, "SELECT "+connectionColumns+" FROM connection WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// ChangeConnection has change rename a connection or set it otherwise, and returns what became of it. Meanwhile nobody
// else changes it: a token that is refreshed just then is there before, or comes after.
func (s *Store) ChangeConnection(ctx context.Context, workspace, id int64, change func(*Connection) error) (c Connection, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if c, err = one[Connection](ctx, s.db, "SELECT "+connectionColumns+" FROM connection WHERE workspace_id = $1 AND id = $2 FOR UPDATE", workspace, id); err != nil {
			return err
		}
		if err := change(&c); err != nil {
			return err
		}
		_, err := s.db.Exec(ctx, "UPDATE connection SET name = $2, settings = $3, sealed = $4 WHERE id = $1", c.ID, c.Name, c.Settings, c.Sealed)
		return err
	})
	return c, err
}

// DeleteConnection deletes a connection with its imports and write-backs; its lists stay.
func (s *Store) DeleteConnection(ctx context.Context, workspace, id int64) error {
	return s.changed(ctx, "DELETE FROM connection WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// BreakConnection records that a connection does not work, and why; ErrNotFound where that is
// known.
func (s *Store) BreakConnection(ctx context.Context, id int64, why string) error {
	return s.changed(ctx, "UPDATE connection SET says = $2, broken_at = now() WHERE id = $1 AND broken_at IS NULL", id, why)
}

// The states of an import from a connection.
const (
	ImportReading   = "reading"
	ImportImporting = "importing"
	ImportDone      = "done"
	ImportFailed    = "failed"
)

// Import is a collection on its way in.
type Import struct {
	ID             int64
	WorkspaceID    int64
	ConnectionID   int64
	Collection     string
	CollectionName string
	ListName       string
	EarlierID      *int64 // the list that it is a newer import of
	Quiet          bool   // what wants it tells of it itself
	Tag            string // of the file that was read, if it is one
	State          string
	Mark           string // from where to go on
	Pages          int
	Contacts       int64 // that came
	Expected       int64 // that the place says there are; -1: it does not say
	Columns        []string
	Addresses      int // that one contact has, at most
	Says           string
	ListID         *int64
	BegunAt        time.Time
	EndedAt        *time.Time
}

const importColumns = `id, workspace_id, connection_id, collection, collection_name, list_name, earlier_id, quiet, tag, state, mark, pages, contacts, expected, columns, addresses, says,
	list_id, begun_at, ended_at`

// NewImport records an import and gives it its ID.
func (s *Store) NewImport(ctx context.Context, i *Import) error {
	return s.db.QueryRow(ctx, `INSERT INTO connection_import (workspace_id, connection_id, collection, collection_name, list_name, earlier_id, quiet, state, expected)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING id, begun_at`,
		i.WorkspaceID, i.ConnectionID, i.Collection, i.CollectionName, i.ListName, i.EarlierID, i.Quiet, i.State, i.Expected).Scan(&i.ID, &i.BegunAt)
}

// Imports returns the newest imports of a connection.
func (s *Store) Imports(ctx context.Context, workspace, connection int64, limit int) ([]Import, error) {
	return many[Import](ctx, s.db, "SELECT "+importColumns+" FROM connection_import WHERE workspace_id = $1 AND connection_id = $2 ORDER BY id DESC LIMIT $3", workspace, connection, limit)
}

// Import returns an import of a workspace.
func (s *Store) Import(ctx context.Context, workspace, id int64) (Import, error) {
	return one[Import](ctx, s.db, "SELECT "+importColumns+" FROM connection_import WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// ImportAtWork returns an import with its connection to the job that works on it.
func (s *Store) ImportAtWork(ctx context.Context, id int64) (i Import, c Connection, err error) {
	if i, err = one[Import](ctx, s.db, "SELECT "+importColumns+" FROM connection_import WHERE id = $1", id); err == nil {
		c, err = one[Connection](ctx, s.db, "SELECT "+connectionColumns+" FROM connection WHERE id = $1", i.ConnectionID)
	}
	return i, c, err
}

// AddPage records a page of contacts, and how far the import has come with it. It is taken once:
// of two that read at once, the later is ErrNotFound.
func (s *Store) AddPage(ctx context.Context, i Import, contacts []byte) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		err := s.changed(ctx, `UPDATE connection_import SET mark = $2, pages = $3, contacts = $4, columns = $5, addresses = $6 WHERE id = $1 AND pages = $3 - 1 AND state = 'reading'`,
			i.ID, i.Mark, i.Pages, i.Contacts, i.Columns, i.Addresses)
		if err == nil {
			_, err = s.db.Exec(ctx, "INSERT INTO connection_page (import_id, number, contacts) VALUES ($1, $2, $3)", i.ID, i.Pages, contacts)
		}
		return err
	})
}

// EachPage returns the pages of an import in their order.
func (s *Store) EachPage(ctx context.Context, i Import, do func(contacts []byte) error) error {
	for n := 1; n <= i.Pages; n++ {
		var page []byte
		if err := s.db.QueryRow(ctx, "SELECT contacts FROM connection_page WHERE import_id = $1 AND number = $2", i.ID, n).Scan(&page); err != nil {
			return err
		}
		if err := do(page); err != nil {
			return err
		}
	}
	return nil
}

// BeginAnew forgets the pages of an import that has to be read from the beginning.
func (s *Store) BeginAnew(ctx context.Context, id int64) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if _, err := s.db.Exec(ctx, "DELETE FROM connection_page WHERE import_id = $1", id); err != nil {
			return err
		}
		return s.changed(ctx, "UPDATE connection_import SET mark = '', pages = 0, contacts = 0 WHERE id = $1 AND state = 'reading'", id)
	})
}

// SetImport records where an import stands. One that has ended keeps no pages.
func (s *Store) SetImport(ctx context.Context, i Import) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		err := s.changed(ctx, "UPDATE connection_import SET state = $2, says = $3, list_id = $4, ended_at = $5, tag = $6, contacts = $7 WHERE id = $1 AND ended_at IS NULL",
			i.ID, i.State, i.Says, i.ListID, i.EndedAt, i.Tag, i.Contacts)
		if err == nil && i.EndedAt != nil {
			_, err = s.db.Exec(ctx, "DELETE FROM connection_page WHERE import_id = $1", i.ID)
		}
		return err
	})
}

// ImportOf returns the import that became a list, with the tag of how the collection stood then;
// ErrNotFound where there is none.
func (s *Store) ImportOf(ctx context.Context, list int64) (Import, error) {
	return one[Import](ctx, s.db, "SELECT "+importColumns+" FROM connection_import WHERE list_id = $1 AND state = 'done' AND tag <> '' ORDER BY id DESC LIMIT 1", list)
}

// NewestFrom returns the newest list of a collection; ErrNotFound where there is none.
func (s *Store) NewestFrom(ctx context.Context, workspace, connection int64, collection string) (List, error) {
	return one[List](ctx, s.db, "SELECT "+listColumns+" FROM list WHERE workspace_id = $1 AND connection_id = $2 AND collection = $3 ORDER BY id DESC LIMIT 1", workspace, connection, collection)
}

// StandingConnected returns the imports and write-backs that have not ended.
func (s *Store) StandingConnected(ctx context.Context) (imports, writeBacks []int64, err error) {
	err = s.db.QueryRow(ctx, `SELECT coalesce((SELECT array_agg(id) FROM connection_import WHERE ended_at IS NULL), '{}'),
		coalesce((SELECT array_agg(id) FROM write_back WHERE ended_at IS NULL), '{}')`).Scan(&imports, &writeBacks)
	return imports, writeBacks, err
}

// TestedConnection records what the test of a connection said.
func (s *Store) TestedConnection(ctx context.Context, c Connection) error {
	return s.changed(ctx, "UPDATE connection SET says = $3, broken_at = $4, tested_at = $5 WHERE workspace_id = $1 AND id = $2", c.WorkspaceID, c.ID, c.Says, c.BrokenAt, c.TestedAt)
}

// ListsFrom returns the newest list of each collection of a connection.
func (s *Store) ListsFrom(ctx context.Context, workspace, connection int64) (map[string]int64, error) {
	rows, err := s.db.Query(ctx, "SELECT collection, max(id) FROM list WHERE workspace_id = $1 AND connection_id = $2 GROUP BY 1", workspace, connection)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	var collection string
	var list int64
	_, err = pgx.ForEachRow(rows, []any{&collection, &list}, func() error {
		out[collection] = list
		return nil
	})
	return out, err
}
