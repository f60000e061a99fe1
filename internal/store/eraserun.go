package store

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5/pgtype"

	"varnet/core/probe"
	"varnet/internal/store/pack"
)

// eraseOfRun takes addresses out of a run: its results with their evidence, its parcels, its
// sample. The run must be held. ErrInHand tells that one of them is being asked about, or that
// the run is being planned.
func (s *Store) eraseOfRun(ctx context.Context, r Run, addresses []int32) (results int64, err error) {
	if (r.State == Running || r.State == Paused) && !r.Plan.Done {
		return 0, ErrInHand
	}
	var inHand bool
	if err := s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM parcel WHERE run_id = $1 AND state = 'claimed' AND ordinals && $2)", r.ID, addresses).Scan(&inHand); err != nil {
		return 0, err
	}
	if inHand {
		return 0, ErrInHand
	}
	if results, err = s.eraseResults(ctx, r.ID, addresses); err != nil {
		return 0, err
	}
	if err := s.eraseParcels(ctx, r.ID, addresses); err != nil {
		return 0, err
	}
	_, err = s.db.Exec(ctx, `UPDATE run SET erasures = erasures + 1,
		sample = CASE WHEN sample IS NULL THEN NULL ELSE ARRAY(SELECT o FROM unnest(sample) WITH ORDINALITY u (o, n) WHERE o <> ALL($2) ORDER BY n) END WHERE id = $1`, r.ID, addresses)
	return results, err
}

// eraseResults writes the batches anew that hold results of addresses, and takes those out of the
// tally.
func (s *Store) eraseResults(ctx context.Context, run int64, addresses []int32) (results int64, err error) {
	st, err := s.Latest(ctx, run)
	if err != nil {
		return 0, err
	}
	standing, err := st.Of(ctx, addresses)
	if err != nil {
		return 0, err
	}
	lost := map[int32]int32{}
	for _, standing := range standing {
		lost[standing.Verdict]--
		results++
	}
	for verdict, n := range lost {
		if _, err := s.db.Exec(ctx, "INSERT INTO tally (run_id, verdict, addresses, at) VALUES ($1, $2, $3, now())", run, verdict, n); err != nil {
			return 0, err
		}
	}
	rows, err := s.db.Query(ctx, batchColumns+", evidence FROM batch WHERE run_id = $1 AND addresses && $2", run, addresses)
	if err != nil {
		return 0, err
	}
	var found []batch
	if err := eachBatch(rows, func(b *batch) error {
		one := *b
		one.evidence = slices.Clone(b.evidence)
		found = append(found, one)
		return nil
	}); err != nil {
		return 0, err
	}
	for _, b := range found {
		if err := s.eraseOfBatch(ctx, run, b, addresses); err != nil {
			return 0, err
		}
	}
	return results, s.unfold(ctx, run)
}

func (s *Store) eraseOfBatch(ctx context.Context, run int64, b batch, addresses []int32) error {
	all, err := pack.ReadEvidence(b.evidence, len(b.addresses))
	if err != nil {
		return fmt.Errorf("batch %d of run %d: %w", b.id, run, err)
	}
	left := batch{}
	var asked [][]probe.Asked
	for i, a := range b.addresses {
		if !slices.Contains(addresses, a) {
			left.addresses, left.verdicts, asked = append(left.addresses, a), append(left.verdicts, b.verdicts[i]), append(asked, all[i])
		}
	}
	if len(left.addresses) == 0 {
		_, err := s.db.Exec(ctx, "DELETE FROM batch WHERE run_id = $1 AND id = $2", run, b.id)
		return err
	}
	_, err = s.db.Exec(ctx, "UPDATE batch SET addresses = $3, verdicts = $4, evidence = $5 WHERE run_id = $1 AND id = $2", run, b.id, left.addresses, left.verdicts, pack.Evidence(asked))
	return err
}

// eraseParcels takes addresses out of the parcels of a run. One that is empty then is gone.
func (s *Store) eraseParcels(ctx context.Context, run int64, addresses []int32) error {
	rows, err := s.db.Query(ctx, "SELECT id, ordinals, mailboxes, rounds, was, asked FROM parcel WHERE run_id = $1 AND ordinals && $2", run, addresses)
	if err != nil {
		return err
	}
	kept := map[int64]keptQuestions{}
	for rows.Next() {
		var id int64
		var k keptQuestions
		var ordinals pgtype.UndecodedBytes
		if err := rows.Scan(&id, &ordinals, &k.mailboxes, &k.rounds, &k.was, &k.asked); err != nil {
			return err
		}
		if k.ordinals, err = ints(ordinals); err != nil {
			return err
		}
		kept[id] = k
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for id, k := range kept {
		questions, err := k.questions()
		if err != nil {
			return fmt.Errorf("parcel %d: %w", id, err)
		}
		questions = slices.DeleteFunc(questions, func(q Asking) bool { return slices.Contains(addresses, q.Ordinal) })
		if len(questions) == 0 {
			_, err = s.db.Exec(ctx, "DELETE FROM parcel WHERE id = $1", id)
		} else {
			k = keep(questions)
			_, err = s.db.Exec(ctx, "UPDATE parcel SET addresses = $2, ordinals = $3, mailboxes = $4, rounds = $5, was = $6, asked = $7 WHERE id = $1",
				id, int32(len(questions)), k.ordinals, k.mailboxes, k.rounds, k.was, k.asked)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
