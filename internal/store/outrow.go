package store

import (
	"context"
	"time"
)

// OutRow is a row on its way out of a list.
type OutRow struct {
	// Number counts the rows, from 1.
	Number int32
	Raw    []byte
	Tail   []byte
	// Cells are its address cells, in the order of the list's address columns.
	Cells []OutCell
}

// Cell gives the row's cell with an ordinal.
func (r *OutRow) Cell(ordinal int32) *OutCell { return &r.Cells[ordinal-r.Cells[0].Ordinal] }

// OutCell is an address cell on its way out.
type OutCell struct {
	Ordinal int32
	// Address is the ordinal of the first cell with the same address, 0 for an
	// empty cell.
	Address int32
	// Verdict is 0 while the address has no result in the run; At is when it
	// was found.
	Verdict int32
	At      *time.Time
	// Domain is left out of all but the first cell with the address unless the
	// operators were asked for; so are Operator and Reply.
	Domain, Operator string
	Reply            Reply
}

// Reply is what a host said last about an address, and where it is recorded.
type Reply struct {
	Text         string
	Parcel       int64
	Conversation int
}

// OutWith is what is to be read beside the verdicts, at a price.
type OutWith struct{ Operators, Replies bool }

// EachRow gives the rows of a run's list in order, with the verdicts of their
// addresses, one by one; nothing is held in memory. The row is good until do
// returns.
func (s *Store) EachRow(ctx context.Context, run Run, list List, with OutWith, do func(*OutRow) error) error {
	return s.eachRow(ctx, run, list, with, nil, do)
}

// RowsOf gives the rows in which some addresses of a run's list stand first, by
// address.
func (s *Store) RowsOf(ctx context.Context, run Run, list List, addresses []int32) (map[int32]*OutRow, error) {
	out, slots := map[int32]*OutRow{}, int32(len(list.AddressColumns))
	var cells []int32
	for _, a := range addresses {
		first := (a-1)/slots*slots + 1
		for i := range slots {
			cells = append(cells, first+i)
		}
	}
	err := s.eachRow(ctx, run, list, OutWith{Operators: true}, cells, func(r *OutRow) error {
		kept := *r
		kept.Raw, kept.Cells = append([]byte(nil), r.Raw...), append([]OutCell(nil), r.Cells...)
		for _, c := range r.Cells {
			out[c.Ordinal] = &kept
		}
		return nil
	})
	return out, err
}

// eachRow gives all rows, or those with some cells.
func (s *Store) eachRow(ctx context.Context, run Run, list List, with OutWith, cells []int32, do func(*OutRow) error) error {
	domain, operator, join, reply := "r.domain", "''", "", "'', 0::bigint, 0"
	if with.Operators {
		domain, operator = "f.domain", "coalesce(d.operator, '')"
		join = `LEFT JOIN list_row f ON f.list_id = r.list_id AND f.ordinal = r.address LEFT JOIN run_domain d ON d.run_id = $2 AND d.domain = f.domain`
	}
	if with.Replies {
		reply = `coalesce(x.evidence->'asked'->-1->>'reply', ''),
			coalesce((x.evidence->'asked'->-1->>'parcel')::bigint, 0), coalesce((x.evidence->'asked'->-1->>'conversation')::int, 0)`
	}
	sql := `SELECT r.ordinal, r.raw, r.tail, coalesce(r.address, 0), coalesce(x.verdict, 0), x.at, coalesce(` + domain + `, ''), ` + operator + ", " + reply + `
		FROM list_row r LEFT JOIN result x ON x.run_id = $2 AND x.address = r.address ` + join + `
		WHERE r.list_id = $1 `
	args := []any{list.ID, run.ID}
	if cells != nil {
		sql, args = sql+"AND r.ordinal = ANY($3) ", append(args, cells)
	}
	rows, err := s.db.Query(ctx, sql+"ORDER BY r.ordinal", args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	slots := len(list.AddressColumns)
	o := OutRow{Cells: make([]OutCell, slots)}
	for rows.Next() {
		var c OutCell
		var raw, tail []byte
		if err := rows.Scan(&c.Ordinal, &raw, &tail, &c.Address, &c.Verdict, &c.At, &c.Domain, &c.Operator, &c.Reply.Text, &c.Reply.Parcel, &c.Reply.Conversation); err != nil {
			return err
		}
		slot := (int(c.Ordinal) - 1) % slots
		if o.Cells[slot] = c; slot == 0 {
			o.Number, o.Raw, o.Tail = (c.Ordinal-1)/int32(slots)+1, raw, tail
		}
		if slot < slots-1 {
			continue
		}
		if err := do(&o); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Exchangers gives the exchangers that were talked to in the parcels of a run,
// by parcel and conversation.
func (s *Store) Exchangers(ctx context.Context, run int64) (map[int64][]string, error) {
	rows, err := s.db.Query(ctx, `SELECT id, ARRAY(SELECT c->>'exchanger' FROM jsonb_array_elements(record->'conversations') c)
		FROM parcel WHERE run_id = $1 AND jsonb_typeof(record->'conversations') = 'array'`, run)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out, same := map[int64][]string{}, map[string]string{}
	for rows.Next() {
		var id int64
		var names []string
		if err := rows.Scan(&id, &names); err != nil {
			return nil, err
		}
		for i, n := range names { // one text for each exchanger, not one for each session
			if _, ok := same[n]; !ok {
				same[n] = n
			}
			names[i] = same[n]
		}
		out[id] = names
	}
	return out, rows.Err()
}
