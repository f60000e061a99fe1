package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
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

// OutCell is an address cell on its way out. Of Verdict, At, Domain and so on
// it has what was asked for.
type OutCell struct {
	Ordinal int32
	// Address is the ordinal of the first cell with the same address, 0 for an
	// empty cell.
	Address int32
	// Verdict is 0 while the address has no result in the run; At is when it
	// was found.
	Verdict          int32
	At               time.Time
	Domain, Operator string
	Reply            Reply
}

// Reply is what a host said last about an address, and where it is recorded.
type Reply struct {
	Text         string
	Parcel       int64
	Conversation int
}

// OutWith is what is to be read beside the rows, at a price: Verdicts take 4
// bytes of memory an address, Times 8 more, Domains (with their operators) 4
// more; Replies take time.
type OutWith struct{ Verdicts, Times, Domains, Replies bool }

// EachRow gives the rows of a run's list in order, one by one. The row is good
// until do returns.
func (s *Store) EachRow(ctx context.Context, run Run, list List, with OutWith, do func(*OutRow) error) error {
	return s.eachRow(ctx, run, list, with, nil, do)
}

// RowsOf gives the rows in which some addresses of a run's list stand first, by
// address, with all but the replies.
func (s *Store) RowsOf(ctx context.Context, run Run, list List, addresses []int32) (map[int32]*OutRow, error) {
	out, slots := map[int32]*OutRow{}, int32(len(list.AddressColumns))
	var cells []int32
	for _, a := range addresses {
		first := (a-1)/slots*slots + 1
		for i := range slots {
			cells = append(cells, first+i)
		}
	}
	err := s.eachRow(ctx, run, list, OutWith{Verdicts: true, Times: true, Domains: true}, cells, func(r *OutRow) error {
		kept := *r
		kept.Raw, kept.Cells = append([]byte(nil), r.Raw...), append([]OutCell(nil), r.Cells...)
		for _, c := range r.Cells {
			out[c.Ordinal] = &kept
		}
		return nil
	})
	return out, err
}

// eachRow gives all rows, or those with some cells. Results are not joined by
// the database: rows come in the order in which they lie there, and what is
// known of an address is looked up in memory.
func (s *Store) eachRow(ctx context.Context, run Run, list List, with OutWith, cells []int32, do func(*OutRow) error) error {
	known, err := s.known(ctx, run, list, with, cells)
	if err != nil {
		return err
	}
	sql, args := `SELECT r.ordinal, r.raw, r.tail, coalesce(r.address, 0), coalesce(r.domain, '')`, []any{list.ID}
	if with.Replies {
		args = append(args, run.ID)
		sql += `, coalesce(x.evidence->'asked'->-1->>'reply', ''), coalesce((x.evidence->'asked'->-1->>'parcel')::bigint, 0),
			coalesce((x.evidence->'asked'->-1->>'conversation')::int, 0)
			FROM list_row r LEFT JOIN result x ON x.run_id = $2 AND x.address = r.address`
	} else {
		sql += " FROM list_row r"
	}
	sql += " WHERE r.list_id = $1"
	if cells != nil {
		args = append(args, cells)
		sql += fmt.Sprintf(" AND r.ordinal = ANY($%d)", len(args))
	}
	rows, err := s.db.Query(ctx, sql+" ORDER BY r.ordinal", args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	slots := len(list.AddressColumns)
	o := OutRow{Cells: make([]OutCell, slots)}
	var c OutCell
	var raw, tail pgtype.DriverBytes // good until the next row
	to := []any{&c.Ordinal, &raw, &tail, &c.Address, &c.Domain}
	if with.Replies {
		to = append(to, &c.Reply.Text, &c.Reply.Parcel, &c.Reply.Conversation)
	}
	for rows.Next() {
		if err := rows.Scan(to...); err != nil {
			return err
		}
		known.tell(&c)
		slot := (int(c.Ordinal) - 1) % slots
		if o.Cells[slot] = c; slot == 0 {
			o.Number, o.Raw, o.Tail = (c.Ordinal-1)/int32(slots)+1, append(o.Raw[:0], raw...), append(o.Tail[:0], tail...)
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

// knowledge is what is known of the addresses of a run: in slices by address,
// or where only some are wanted by their place among them.
type knowledge struct {
	some     map[int32]int32
	verdicts []int32
	times    []int64 // microseconds since 1970
	// domains are the places of the addresses' domains among the names met so
	// far.
	domains   []int32
	names     []string
	places    map[string]int32
	operators map[string]string // by domain
}

// known reads what is known of all addresses of a run, or of those in cells.
func (s *Store) known(ctx context.Context, run Run, list List, with OutWith, cells []int32) (*knowledge, error) {
	k := &knowledge{names: []string{""}, places: map[string]int32{}}
	size := int32(list.Rows)*int32(len(list.AddressColumns)) + 1
	sql, args := "SELECT address, verdict, at FROM result WHERE run_id = $1", []any{run.ID}
	if cells != nil {
		k.some, size = make(map[int32]int32, len(cells)), int32(len(cells))+1
		for i, c := range cells {
			k.some[c] = int32(i) + 1
		}
		sql, args = sql+" AND address = ANY($2)", append(args, cells)
	}
	if with.Domains {
		k.domains = make([]int32, size)
		var err error
		if k.operators, err = s.operatorsOf(ctx, run.ID, list.ID, cells); err != nil {
			return nil, err
		}
	}
	if !with.Verdicts {
		return k, nil
	}
	k.verdicts = make([]int32, size)
	if with.Times {
		k.times = make([]int64, size)
	}
	rows, err := s.db.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	var address, verdict int32
	var at time.Time
	_, err = pgx.ForEachRow(rows, []any{&address, &verdict, &at}, func() error {
		place := k.place(address)
		k.verdicts[place] = verdict
		if k.times != nil {
			k.times[place] = at.UnixMicro()
		}
		return nil
	})
	return k, err
}

// operatorsOf gives the operators of a run's domains, or of those in some cells.
func (s *Store) operatorsOf(ctx context.Context, run int64, list int64, cells []int32) (map[string]string, error) {
	sql, args := "SELECT domain, operator FROM run_domain WHERE run_id = $1", []any{run}
	if cells != nil {
		sql, args = sql+" AND domain IN (SELECT domain FROM list_row WHERE list_id = $2 AND ordinal = ANY($3))", append(args, list, cells)
	}
	rows, err := s.db.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	var domain, operator string
	_, err = pgx.ForEachRow(rows, []any{&domain, &operator}, func() error {
		out[domain] = operator
		return nil
	})
	return out, err
}

// place is where an address stands in the slices; 0 holds nothing.
func (k *knowledge) place(address int32) int32 {
	if k.some != nil {
		return k.some[address]
	}
	return address
}

// tell adds to a cell what is known of its address.
func (k *knowledge) tell(c *OutCell) {
	place := k.place(c.Address)
	c.Verdict, c.At = 0, time.Time{}
	if k.verdicts != nil {
		c.Verdict = k.verdicts[place]
	}
	if k.times != nil && k.times[place] != 0 {
		c.At = time.UnixMicro(k.times[place])
	}
	if k.domains == nil || place == 0 {
		return
	}
	if c.Domain != "" { // the first cell with the address
		id, ok := k.places[c.Domain]
		if !ok {
			id = int32(len(k.names))
			k.names, k.places[c.Domain] = append(k.names, c.Domain), id
		}
		k.domains[place] = id
	}
	c.Domain = k.names[k.domains[place]]
	c.Operator = k.operators[c.Domain]
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
