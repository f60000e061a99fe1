package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"varnet/core/finding"
	"varnet/core/ledger"
	"varnet/core/probe"
	"varnet/internal/store/pack"
)

// Results are kept in batches: what one parcel brought, one step of the planning
// concluded, or a run took over of one batch of an earlier run. A batch is one
// record, however many addresses it has, so that writing a result costs next to
// nothing beside asking. An address that is asked again stands in a later batch,
// which goes before the earlier. Batches are folded into the latest results of their run
// (see Latest and Fold).

// Concluded is a result to be recorded.
type Concluded struct {
	Address int32
	Verdict finding.Verdict
	Asked   []probe.Asked
	// Was is the verdict that it replaces, 0: it is the address's first.
	Was int32
}

// AddResults records results as a batch, and their tally. It belongs in the
// transaction that marks their parcel done or their planning saved.
func (s *Store) AddResults(ctx context.Context, run int64, results []Concluded) error {
	if len(results) == 0 {
		return nil
	}
	b, tally, err := s.batchOf(ctx, results)
	if err != nil {
		return err
	}
	return s.addBatch(ctx, run, b, tally, b.at)
}

// RecordParcel marks a claimed parcel done and records its results, both or neither;
// ok is false when it is not claimed any more, as MarkDone tells.
func (s *Store) RecordParcel(ctx context.Context, parcel int64, lane int, r pack.ParcelRecord, results []Concluded) (ok bool, err error) {
	if len(results) == 0 {
		return s.MarkDone(ctx, parcel, lane, r)
	}
	b, tally, err := s.batchOf(ctx, results)
	if err != nil {
		return false, err
	}
	tag, err := s.db.Exec(ctx, addTo(markDone(batchValues+1)+" RETURNING run_id"), append(b.values(tally, b.at), parcel, lane, r)...)
	return tag.RowsAffected() > 0, err
}

// batchOf makes a batch of results, and counts how many addresses got each verdict
// by it, or lost it.
func (s *Store) batchOf(ctx context.Context, results []Concluded) (batch, map[int32]int32, error) {
	b := batch{at: s.now(), addresses: make([]int32, len(results)), verdicts: make([]int32, len(results))}
	asked, tally := make([][]probe.Asked, len(results)), map[int32]int32{}
	for i, r := range results {
		id, err := s.verdictID(ctx, r.Verdict)
		if err != nil {
			return b, nil, err
		}
		b.addresses[i], b.verdicts[i], asked[i] = r.Address, id, r.Asked
		tally[id]++
		b.conclusive.Count(r.Verdict, 1)
		if r.Was != 0 {
			was, err := s.verdict(ctx, r.Was)
			if err != nil {
				return b, nil, err
			}
			tally[r.Was]--
			b.conclusive.Count(was, -1)
		}
	}
	b.evidence = pack.Evidence(asked)
	return b, tally, nil
}

// batch is a batch of results. One that is restated gives results other odds; their evidence and
// their time stay those of the batch before.
type batch struct {
	id                  int64
	at                  time.Time
	addresses, verdicts []int32
	restated            bool
	evidence            []byte
	// conclusive are the findings that the run is charged for.
	conclusive ledger.Conclusive
}

// addTo tells in SQL to add a batch, and how many addresses got each verdict, or
// lost it, to the run that another statement gives, if it gives any, and to charge
// what is set aside for it. A charge is added and changes nothing, so that lanes do not
// wait for each other (ledger.Book.Charge tells what it is).
func addTo(run string) string {
	return `WITH run AS (` + run + `),
		added AS (INSERT INTO batch (run_id, at, addresses, verdicts, evidence, restated) SELECT run_id, $1, $2, $3, $4, $8 FROM run),
		charge AS (SELECT r.workspace_id, r.id, $9::bigint * cost_syntax + $10::bigint * cost_domain + $11::bigint * cost_mailbox AS n
			FROM run JOIN reservation r ON r.run_id = run.run_id AND r.closed_at IS NULL WHERE ($9, $10, $11) <> (0, 0, 0)),
		charged AS (INSERT INTO ledger_entry (workspace_id, at, from_account, to_account, amount, why, reservation_id)
			SELECT workspace_id, $1::timestamptz, CASE WHEN n > 0 THEN 'reserved' ELSE 'used' END, CASE WHEN n > 0 THEN 'used' ELSE 'reserved' END, abs(n),
				CASE WHEN n > 0 THEN 'charge' ELSE 'charge taken back' END, id FROM charge WHERE n <> 0)
		INSERT INTO tally (run_id, verdict, addresses, at) SELECT run_id, v, n, $7 FROM run, unnest($5::int[], $6::int[]) t(v, n)`
}

// batchValues is how many values addTo takes.
const batchValues = 11

// values are those that addTo takes.
func (b batch) values(tally map[int32]int32, at time.Time) []any {
	var verdicts, addresses []int32
	for id, n := range tally {
		verdicts, addresses = append(verdicts, id), append(addresses, n)
	}
	return []any{b.at, b.addresses, b.verdicts, b.evidence, verdicts, addresses, at, b.restated, b.conclusive.Syntax, b.conclusive.Domain, b.conclusive.Mailbox}
}

func (s *Store) addBatch(ctx context.Context, run int64, b batch, tally map[int32]int32, at time.Time) error {
	_, err := s.db.Exec(ctx, addTo(fmt.Sprintf("SELECT $%d::bigint AS run_id", batchValues+1)), append(b.values(tally, at), run)...)
	return err
}

// Asked returns what some addresses of a run, each of which has a result, were
// asked, by address.
func (s *Store) Asked(ctx context.Context, run int64, st *Latest, addresses []int32) (map[int32][]probe.Asked, error) {
	found, err := st.Of(ctx, addresses)
	if err != nil {
		return nil, err
	}
	ids, wanted := map[int64]bool{}, map[int32]int64{}
	for a, standing := range found {
		ids[standing.Batch], wanted[a] = true, standing.Batch
	}
	out := map[int32][]probe.Asked{}
	rows, err := s.db.Query(ctx, batchColumns+", evidence FROM batch WHERE run_id = $1 AND id = ANY($2)", run, slices.Sorted(maps.Keys(ids)))
	if err != nil {
		return nil, err
	}
	err = eachBatch(rows, func(b *batch) error {
		all, err := pack.ReadEvidence(b.evidence, len(b.addresses))
		for i, asked := range all {
			if wanted[b.addresses[i]] == b.id {
				out[b.addresses[i]] = asked
			}
		}
		return err
	})
	return out, err
}

// batchColumns begins a query for batches.
const batchColumns = "SELECT id, at, addresses, verdicts, restated"

// eachBatch returns the batches of a query for all their columns, or for all but the
// evidence, one by one.
func eachBatch(rows pgx.Rows, do func(*batch) error) (err error) {
	var b batch
	var addresses, verdicts pgtype.UndecodedBytes
	to := []any{&b.id, &b.at, &addresses, &verdicts, &b.restated, &b.evidence}
	_, err = pgx.ForEachRow(rows, to[:len(rows.FieldDescriptions())], func() error {
		if b.addresses, err = ints(addresses); err != nil {
			return err
		}
		if b.verdicts, err = ints(verdicts); err != nil {
			return err
		}
		if err := b.check(); err != nil {
			return err
		}
		return do(&b)
	})
	return err
}

func (b *batch) check() error {
	if len(b.addresses) != len(b.verdicts) || len(b.addresses) == 0 {
		return fmt.Errorf("batch %d has %d addresses and %d verdicts", b.id, len(b.addresses), len(b.verdicts))
	}
	return nil
}

// ints reads an int[] as it is sent (PostgreSQL's array_send): the number of
// dimensions, whether there are nulls, the type, then for each dimension size and
// lower bound, and for each element its length and value. That takes a twentieth
// of the time of a reading that knows all types.
func ints(sent pgtype.UndecodedBytes) ([]int32, error) {
	if len(sent) < arrayHead {
		return nil, nil // an empty one has no dimension
	}
	n := int(binary.BigEndian.Uint32(sent[12:]))
	if binary.BigEndian.Uint32(sent) != 1 || len(sent) != arrayHead+8*n {
		return nil, fmt.Errorf("%d bytes are not an array of integers", len(sent))
	}
	out := make([]int32, n)
	for i := range out {
		out[i] = int32(binary.BigEndian.Uint32(sent[arrayHead+8*i+4:]))
	}
	return out, nil
}

const arrayHead = 20
