package store

import (
	"context"
	"database/sql"
	"encoding/json"

	"github.com/jackc/pgx/v5/pgtype"
	"github.com/pressly/goose/v3"
)

// toBlocks is migration 19: rows that were kept one by one go into blocks. It is
// written in Go because only that can pack them.
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
	var b block
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
			b.add(&next[i].Row)
		}
	}
	if err := end(); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "CLOSE old_rows")
	return err
}

type oldRow struct {
	list int64
	Row
}

func fetchRows(ctx context.Context, tx *sql.Tx) (out []oldRow, err error) {
	rows, err := tx.QueryContext(ctx, "FETCH 500 FROM old_rows")
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	arrays := pgtype.NewMap()
	for rows.Next() {
		var r oldRow
		var problem sql.NullString
		if err := rows.Scan(&r.list, &r.Ordinal, &r.Line, &r.Raw, &r.Tail, &r.Typed, &r.Address, &r.Mailbox, &r.Domain,
			arrays.SQLScanner(&r.Traits), arrays.SQLScanner(&r.Mended), &problem); err != nil {
			return nil, err
		}
		if problem.Valid {
			if err := json.Unmarshal([]byte(problem.String), &r.Problem); err != nil {
				return nil, err
			}
		}
		out = append(out, r)
	}
	return out, rows.Err()
}
