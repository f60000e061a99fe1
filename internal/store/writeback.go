package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/store/pack"
)

// The states of a write-back.
const (
	WritePreparing = "preparing"
	WriteWriting   = "writing"
	WriteDone      = "done"
	WriteFailed    = "failed"
	WriteUndoing   = "undoing"
	WriteUndone    = "undone"
)

// WriteBack is decisions on their way to where the contacts came from.
type WriteBack struct {
	ID           int64
	WorkspaceID  int64
	RunID        int64
	ConnectionID int64
	Collection   string
	Spec         pack.WriteBackSpec
	Targets      []string // by step, what the place made for it
	Planned      []int64  // by step, how many contacts a person has seen that it is for; none: nobody has
	State        string
	Says         string
	Quiet        bool
	ByWhom       string
	BegunAt      time.Time
	EndedAt      *time.Time
}

const writeBackColumns = "id, workspace_id, run_id, connection_id, collection, spec, targets, planned, state, says, quiet, by_whom, begun_at, ended_at"

// NewWriteBack records a write-back and gives it its ID.
func (s *Store) NewWriteBack(ctx context.Context, w *WriteBack) error {
	return s.db.QueryRow(ctx, `INSERT INTO write_back (workspace_id, run_id, connection_id, collection, spec, targets, planned, state, says, quiet, by_whom)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) RETURNING id, begun_at`,
		w.WorkspaceID, w.RunID, w.ConnectionID, w.Collection, w.Spec, w.Targets, orNone(w.Planned), w.State, w.Says, w.Quiet, w.ByWhom).Scan(&w.ID, &w.BegunAt)
}

// orNone is an empty list in the place of none.
func orNone(n []int64) []int64 {
	if n == nil {
		return []int64{}
	}
	return n
}

// WriteBack returns a write-back of a workspace.
func (s *Store) WriteBack(ctx context.Context, workspace, id int64) (WriteBack, error) {
	return one[WriteBack](ctx, s.db, "SELECT "+writeBackColumns+" FROM write_back WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// WriteBacks returns the newest write-backs of a run or of a connection; 0: of any.
func (s *Store) WriteBacks(ctx context.Context, workspace, run, connection int64, limit int) ([]WriteBack, error) {
	return many[WriteBack](ctx, s.db, "SELECT "+writeBackColumns+` FROM write_back WHERE workspace_id = $1 AND ($2::bigint = 0 OR run_id = $2) AND ($3::bigint = 0 OR connection_id = $3)
		ORDER BY id DESC LIMIT $4`, workspace, run, connection, limit)
}

// WriteBackAtWork returns a write-back with its connection to the job that works on it.
func (s *Store) WriteBackAtWork(ctx context.Context, id int64) (w WriteBack, c Connection, err error) {
	if w, err = one[WriteBack](ctx, s.db, "SELECT "+writeBackColumns+" FROM write_back WHERE id = $1", id); err == nil {
		c, err = one[Connection](ctx, s.db, "SELECT "+connectionColumns+" FROM connection WHERE id = $1", w.ConnectionID)
	}
	return w, c, err
}

// SetWriteBack records where a write-back stands, if it stands where it is thought to.
func (s *Store) SetWriteBack(ctx context.Context, w WriteBack, from string) error {
	return s.changed(ctx, "UPDATE write_back SET state = $2, says = $3, targets = $4, ended_at = $5 WHERE id = $1 AND state = $6", w.ID, w.State, w.Says, w.Targets, w.EndedAt, from)
}

// ItemState is what became of a contact in a step of a write-back.
type ItemState int16

// The states of an item.
const (
	ItemOpen ItemState = iota
	ItemBegun
	ItemDone
	ItemSkipped // it was left as it is, and why
	ItemFailed  // the place did not take it, and why
	ItemUndone
	ItemLeft // it could not be undone, and why
)

// WriteItem is what a contact gets in a step of a write-back, and what it had.
type WriteItem struct {
	Step, Number int
	Key          string
	Addresses    []string
	Value        string
	State        ItemState
	Had          *string // before; nil: that is not known
	Why          string
}

const itemColumns = "step, number, key, addresses, value, state, had, why"

// AddItems adds the items of a write-back, as next returns them.
func (s *Store) AddItems(ctx context.Context, writeBack int64, next func() (*WriteItem, error)) (int64, error) {
	return s.db.CopyFrom(ctx, pgx.Identifier{"write_item"}, []string{"write_back_id", "step", "number", "key", "addresses", "value"}, pgx.CopyFromFunc(func() ([]any, error) {
		i, err := next()
		if err != nil || i == nil {
			return nil, err
		}
		return []any{writeBack, i.Step, i.Number, i.Key, i.Addresses, i.Value}, nil
	}))
}

// DropItems forgets the items of a write-back that were not written yet.
func (s *Store) DropItems(ctx context.Context, writeBack int64) error {
	_, err := s.db.Exec(ctx, "DELETE FROM write_item WHERE write_back_id = $1", writeBack)
	return err
}

// OpenItems returns the next items of a step that are not written.
func (s *Store) OpenItems(ctx context.Context, writeBack int64, step, limit int) ([]WriteItem, error) {
	return many[WriteItem](ctx, s.db, "SELECT "+itemColumns+" FROM write_item WHERE write_back_id = $1 AND step = $2 AND state IN (0, 1) ORDER BY number LIMIT $3", writeBack, step, limit)
}

// DoneItems returns the next items of a step that were written and are not undone.
func (s *Store) DoneItems(ctx context.Context, writeBack int64, step, limit int) ([]WriteItem, error) {
	return many[WriteItem](ctx, s.db, "SELECT "+itemColumns+" FROM write_item WHERE write_back_id = $1 AND step = $2 AND state = 2 ORDER BY number LIMIT $3", writeBack, step, limit)
}

// SetItems records what became of items.
func (s *Store) SetItems(ctx context.Context, writeBack int64, items []WriteItem) error {
	var steps, numbers []int
	var states []int16
	var had []*string
	var why []string
	for _, i := range items {
		steps, numbers, states, had, why = append(steps, i.Step), append(numbers, i.Number), append(states, int16(i.State)), append(had, i.Had), append(why, i.Why)
	}
	_, err := s.db.Exec(ctx, `UPDATE write_item w SET state = v.state, had = v.had, why = v.why
		FROM unnest($2::int[], $3::int[], $4::smallint[], $5::text[], $6::text[]) AS v (step, number, state, had, why)
		WHERE w.write_back_id = $1 AND w.step = v.step AND w.number = v.number`, writeBack, steps, numbers, states, had, why)
	return err
}

// ItemCount is how many items of a step are in a state.
type ItemCount struct {
	Step  int
	State ItemState
	Items int64
}

// ItemCounts counts the items of a write-back.
func (s *Store) ItemCounts(ctx context.Context, writeBack int64) ([]ItemCount, error) {
	return many[ItemCount](ctx, s.db, "SELECT step, state, count(*) AS items FROM write_item WHERE write_back_id = $1 GROUP BY 1, 2 ORDER BY 1, 2", writeBack)
}

// Items returns a page of the journal of a write-back: of some states, after a step and number.
func (s *Store) Items(ctx context.Context, writeBack int64, states []ItemState, step, number, limit int) ([]WriteItem, error) {
	in := make([]int16, len(states))
	for i, st := range states {
		in[i] = int16(st)
	}
	return many[WriteItem](ctx, s.db, "SELECT "+itemColumns+` FROM write_item WHERE write_back_id = $1 AND (cardinality($2::smallint[]) = 0 OR state = ANY($2)) AND (step, number) > ($3, $4)
		ORDER BY step, number LIMIT $5`, writeBack, in, step, number, limit)
}

// UndoStep records that all that was done in a step is undone.
func (s *Store) UndoStep(ctx context.Context, writeBack int64, step int) error {
	_, err := s.db.Exec(ctx, "UPDATE write_item SET state = $3 WHERE write_back_id = $1 AND step = $2 AND state = $4", writeBack, step, ItemUndone, ItemDone)
	return err
}
