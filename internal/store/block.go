package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"varnet/core/fault"
	"varnet/internal/store/pack"
)

// Row is one address cell of a list, Problem why one holds no address.
type (
	Row     = pack.Row
	Problem = pack.Problem
)

// CopyRows imports rows as next gives them, until it gives none. Their ordinals
// are to follow each other from 1.
func (s *Store) CopyRows(ctx context.Context, list int64, next func() (*Row, error)) error {
	var failed error // what next said, before PostgreSQL wraps it
	var b pack.Block
	ended := false
	_, err := s.db.CopyFrom(ctx, pgx.Identifier{"row_block"}, blockColumns, pgx.CopyFromFunc(func() ([]any, error) {
		s.giveWay(ctx)
		b.Start()
		for !ended && !b.Full() {
			r, err := next()
			if err != nil {
				failed = err
				return nil, err
			}
			if ended = r == nil; !ended {
				b.Add(r)
			}
		}
		if b.Empty() {
			return nil, nil
		}
		return blockValues(&b, list), nil
	}))
	return cmp.Or(failed, err)
}

var blockColumns = []string{"list_id", "first", "last", "cells", "records", "texts", "grams", "malformed"}

func blockValues(b *pack.Block, list int64) []any {
	return []any{list, b.First, b.Last, b.Cells, b.Records, string(b.Texts), b.Grams(), b.Malformed}
}

// blocksAtOnce is how many blocks are read before the first is given on: usually a megabyte,
// and sixteen where rows are very long.
const blocksAtOnce = 16

// eachBlock returns the cells of those blocks of a list that a condition in SQL
// chooses, in order; without records, where they are not wanted. They are good until
// do returns; an error of it ends the walk. The next blocks are read while do works, and no
// connection is held once they are there: do may write to somebody who reads slowly.
func (s *Store) eachBlock(ctx context.Context, list int64, records bool, do func([]Row) error, where string, args ...any) error {
	of := "NULL::bytea"
	if records {
		of = "records"
	}
	args = append([]any{list}, append(args, int32(0))...)
	sql := fmt.Sprintf("SELECT first, last, cells, %s FROM row_block WHERE list_id = $1 AND %s AND last > $%d ORDER BY last LIMIT %d", of, where, len(args), blocksAtOnce)
	now, next := &blockPage{}, &blockPage{}
	read := func() error { return s.readBlocks(ctx, next, sql, args) }
	for wait := read; ; {
		if err := wait(); err != nil {
			return err
		}
		now, next = next, now
		more := now.n == blocksAtOnce
		if more {
			args[len(args)-1] = now.blocks[now.n-1].Last
			wait = s.beside(read)
		}
		if err := s.eachOf(ctx, list, now, do); err != nil || !more {
			return err
		}
	}
}

// beside starts a read in the background and returns a function that waits for its end. The
// connection of a transaction does one thing at a time: within one, waiting does the reading.
func (s *Store) beside(read func() error) (wait func() error) {
	if _, within := s.db.querier.(pgx.Tx); within {
		return read
	}
	done := make(chan error, 1)
	var faults fault.Keeper
	go func() {
		defer close(done)
		defer faults.Keep()
		done <- read()
	}()
	return func() error {
		err := <-done
		faults.Throw()
		return err
	}
}

// blockPage are blocks that were read together.
type blockPage struct {
	blocks [blocksAtOnce]pack.Block
	n      int
	cells  []Row
}

// eachOf gives the cells of a page on, block by block.
func (s *Store) eachOf(ctx context.Context, list int64, page *blockPage, do func([]Row) error) (err error) {
	for i := range page.blocks[:page.n] {
		s.giveWay(ctx)
		b := &page.blocks[i]
		if page.cells, err = b.Rows(page.cells); err != nil {
			return fmt.Errorf("list %d, rows %d to %d: %w", list, b.First, b.Last, err)
		}
		if err := do(page.cells); err != nil {
			return err
		}
	}
	return nil
}

// readBlocks reads blocks into a page, whose memory it uses again.
func (s *Store) readBlocks(ctx context.Context, page *blockPage, sql string, args []any) error {
	page.n = 0
	rows, err := s.db.Query(ctx, sql, args...)
	if err != nil {
		return err
	}
	var b pack.Block
	_, err = pgx.ForEachRow(rows, []any{&b.First, &b.Last, (*pgtype.DriverBytes)(&b.Cells), (*pgtype.DriverBytes)(&b.Records)}, func() error {
		to := &page.blocks[page.n]
		to.First, to.Last, to.Cells, to.Records = b.First, b.Last, append(to.Cells[:0], b.Cells...), append(to.Records[:0], b.Records...)
		page.n++
		return nil
	})
	return err
}

// eachCell returns the cells of a list from one ordinal to another, one by one.
func (s *Store) eachCell(ctx context.Context, list int64, from, to int32, records bool, do func(*Row) error) error {
	return s.eachBlock(ctx, list, records, func(in []Row) error {
		for i := range in {
			if c := &in[i]; c.Ordinal >= from && c.Ordinal <= to {
				if err := do(c); err != nil {
					return err
				}
			}
		}
		return nil
	}, "last >= $2 AND first <= $3", from, to)
}

// eachCellAt returns the cells at some ordinals of a list, in their order, one by one.
func (s *Store) eachCellAt(ctx context.Context, list int64, ordinals []int32, records bool, do func(*Row) error) error {
	wanted := slices.Compact(slices.Sorted(slices.Values(ordinals)))
	if len(wanted) == 0 {
		return nil
	}
	// Null, the last of them, stands for ordinals past the end.
	blocks, err := column[*int32](ctx, s.db, `SELECT DISTINCT (SELECT b.last FROM row_block b WHERE b.list_id = $1 AND b.last >= o ORDER BY b.last LIMIT 1) AS at FROM unnest($2::int[]) o ORDER BY at`, list, wanted)
	if err != nil {
		return err
	}
	for chunk := range slices.Chunk(blocks, blocksAtOnce-1) {
		if err := s.cellsIn(ctx, list, chunk, &wanted, records, do); err != nil {
			return err
		}
	}
	return nil
}

// cellsIn gives the cells on that are wanted next, of some blocks in order.
func (s *Store) cellsIn(ctx context.Context, list int64, blocks []*int32, rest *[]int32, records bool, do func(*Row) error) error {
	return s.eachBlock(ctx, list, records, func(in []Row) error {
		wanted := *rest
		defer func() { *rest = wanted }()
		for len(wanted) > 0 && wanted[0] <= in[len(in)-1].Ordinal {
			if at := wanted[0] - in[0].Ordinal; at >= 0 {
				if err := do(&in[at]); err != nil {
					return err
				}
			}
			wanted = wanted[1:]
		}
		return nil
	}, "last = ANY($2::int[])", blocks)
}

// cellsAt returns the cells at some ordinals of a list, by ordinal.
func (s *Store) cellsAt(ctx context.Context, list int64, ordinals []int32, records bool) (map[int32]Row, error) {
	out := make(map[int32]Row, len(ordinals))
	err := s.eachCellAt(ctx, list, ordinals, records, func(r *Row) error {
		kept := *r
		kept.Raw, kept.Tail = slices.Clone(r.Raw), slices.Clone(r.Tail)
		out[r.Ordinal] = kept
		return nil
	})
	return out, err
}
