package migrate

import (
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"strings"

	"github.com/jackc/pgx/v5/pgtype"
	"github.com/pressly/goose/v3"
)

// toBlocks is migration 19: rows that were kept one by one go into blocks. It is
// written in Go because SQL cannot pack them.
var toBlocks = goose.NewGoMigration(19, &goose.GoFunc{RunTx: migrateToBlocks}, nil)

func migrateToBlocks(ctx context.Context, tx *sql.Tx) error {
	if err := rowsToBlocks(ctx, tx); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `DROP TABLE list_row, list_text;
		DO $$ BEGIN IF to_regclass('river_job') IS NOT NULL THEN DELETE FROM river_job WHERE kind = 'texts'; END IF; END $$`)
	return err
}

// rowsToBlocks goes through the rows by a cursor, as resultsToBatches does.
func rowsToBlocks(ctx context.Context, tx *sql.Tx) error {
	_, err := tx.ExecContext(ctx, `DECLARE old_rows CURSOR FOR SELECT list_id, ordinal, line, raw, coalesce(tail, ''), typed, coalesce(address, 0),
		coalesce(mailbox, ''), coalesce(domain, ''), traits, mended, problem::text FROM list_row ORDER BY list_id, ordinal`)
	if err != nil {
		return err
	}
	var b block19
	b.start()
	list := int64(0)
	end := func() error {
		if b.empty() {
			return nil
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO row_block (list_id, first, last, cells, records, texts, malformed)
			VALUES ($1, $2, $3, $4, $5, $6, $7)`, b.values(list)...)
		b.start()
		return err
	}
	for {
		next, err := fetchRows(ctx, tx)
		if err != nil {
			return err
		}
		if len(next) == 0 {
			break
		}
		for i := range next {
			if b.full() || next[i].list != list {
				if err := end(); err != nil {
					return err
				}
			}
			list = next[i].list
			b.add(&next[i])
		}
	}
	if err := end(); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "CLOSE old_rows")
	return err
}

type row19 struct {
	list      int64
	ordinal   int32
	line      int64
	raw, tail []byte
	typed     string
	address   int32
	mailbox   string
	domain    string
	traits    []string
	mended    []string
	problem   *problem19
}

type problem19 struct {
	Cause    string `json:"cause"`
	Position int    `json:"position"`
	Reason   string `json:"reason"`
}

func fetchRows(ctx context.Context, tx *sql.Tx) (out []row19, err error) {
	rows, err := tx.QueryContext(ctx, "FETCH 500 FROM old_rows")
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	arrays := pgtype.NewMap()
	for rows.Next() {
		var r row19
		var problem sql.NullString
		if err := rows.Scan(&r.list, &r.ordinal, &r.line, &r.raw, &r.tail, &r.typed, &r.address, &r.mailbox, &r.domain,
			arrays.SQLScanner(&r.traits), arrays.SQLScanner(&r.mended), &problem); err != nil {
			return nil, err
		}
		if problem.Valid {
			if err := json.Unmarshal([]byte(problem.String), &r.problem); err != nil {
				return nil, err
			}
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// block19 is a block as it was packed at that time. A cell in it is a byte of flags, the
// distance of its line from the one before, the lengths of its record and of what follows
// it, and what the flags announce.
type block19 struct {
	first, last           int32
	cells, records, texts []byte
	malformed             int32
	line                  int64 // of the last cell
}

const (
	hasTail19 = 1 << iota
	standsFirst19
	standsLater19 // after the first with its address, whose distance follows
	isWellFormed19
	hasMailbox19 // the text is not the mailbox, which follows
	hasTraits19
	hasMended19
	hasProblem19
)

func (b *block19) full() bool { return b.last-b.first+1 >= 500 || len(b.records) >= 1<<20 }

func (b *block19) empty() bool { return b.first == 0 }

func (b *block19) start() { *b = block19{records: []byte{}} }

func (b *block19) values(list int64) []any {
	return []any{list, b.first, b.last, b.cells, b.records, string(b.texts), b.malformed}
}

func (b *block19) add(r *row19) {
	if b.empty() {
		b.first = r.ordinal
	} else {
		b.texts = append(b.texts, '\n')
	}
	b.last = r.ordinal
	flags := r.flags()
	b.cells = binary.AppendVarint(append(b.cells, flags), r.line-b.line)
	b.line = r.line
	b.records = append(append(b.records, r.raw...), r.tail...)
	b.cells = binary.AppendUvarint(b.cells, uint64(len(r.raw)))
	if flags&hasTail19 != 0 {
		b.cells = binary.AppendUvarint(b.cells, uint64(len(r.tail)))
	}
	b.cells = appendText(b.cells, r.typed)
	if flags&standsLater19 != 0 {
		b.cells = binary.AppendUvarint(b.cells, uint64(r.ordinal-r.address))
	}
	if flags&standsFirst19 == 0 {
		return
	}
	b.texts = append(b.texts, strings.ReplaceAll(strings.ToLower(r.typed), "\n", " ")...)
	if flags&hasMailbox19 != 0 {
		b.cells = appendText(b.cells, r.mailbox)
	}
	if flags&hasTraits19 != 0 {
		b.cells = appendText(b.cells, strings.Join(r.traits, " "))
	}
	if flags&hasMended19 != 0 {
		b.cells = binary.AppendUvarint(b.cells, uint64(len(r.mended)))
		for _, m := range r.mended {
			b.cells = appendText(b.cells, m)
		}
	}
	if flags&hasProblem19 != 0 {
		b.malformed++
		b.cells = binary.AppendUvarint(appendText(b.cells, r.problem.Cause), uint64(r.problem.Position))
		b.cells = appendText(b.cells, r.problem.Reason)
	}
}

func (r *row19) flags() (flags byte) {
	set := func(flag byte, has bool) {
		if has {
			flags |= flag
		}
	}
	first := r.address == r.ordinal
	set(hasTail19, len(r.tail) > 0)
	set(standsFirst19, first)
	set(standsLater19, r.address != 0 && !first)
	set(isWellFormed19, r.domain != "")
	set(hasMailbox19, r.mailbox != "" && r.mailbox != r.typed)
	set(hasTraits19, len(r.traits) > 0)
	set(hasMended19, len(r.mended) > 0)
	set(hasProblem19, r.problem != nil)
	return flags
}
