package store

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// EraseOfRun takes addresses out of a run alone, for a test.
func (s *Store) EraseOfRun(ctx context.Context, r Run, addresses []int32) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if err := s.LockRun(ctx, r.ID); err != nil {
			return err
		}
		now, err := s.RunByID(ctx, r.ID)
		if err == nil {
			_, err = s.eraseOfRun(ctx, now, addresses)
		}
		return err
	})
}
