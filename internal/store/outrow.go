package store

import (
	"context"
	"errors"
	"slices"
	"time"

	"varnet/internal/store/pack"
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

// Cell returns the row's cell with an ordinal.
func (r *OutRow) Cell(ordinal int32) *OutCell { return &r.Cells[ordinal-r.Cells[0].Ordinal] }

// OutCell is an address cell on its way out. Of Domain, Operator and Reply it has
// what was asked for.
type OutCell struct {
	Ordinal int32
	// Address is the ordinal of the first cell with the same address, 0 for an
	// empty cell.
	Address int32
	// Verdict is 0 while the address has no result in the run; At is when it
	// was found, where that was asked for.
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

// OutWith is what is to be read beside the rows and their verdicts, at a price:
// Domains (with their operators) take 4 bytes of memory an address, Times 2; Replies take
// time, and the memory of their texts.
type OutWith struct{ Domains, Times, Replies bool }

// ErrEnough is what do of EachRow returns where it wants no further rows. It is no error.
var ErrEnough = errors.New("enough")

// EachRow returns the rows of a run's list in order, one by one, until do returns ErrEnough or an error. The row is
// good until do returns.
func (s *Store) EachRow(ctx context.Context, run Run, list List, with OutWith, do func(*OutRow) error) error {
	err := s.eachRow(ctx, run, list, with, nil, do)
	if errors.Is(err, ErrEnough) {
		return nil
	}
	return err
}

// RowsOf returns the rows in which some addresses of a run's list stand first, by
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
	err := s.eachRow(ctx, run, list, OutWith{Domains: true}, cells, func(r *OutRow) error {
		kept := *r
		kept.Raw, kept.Cells = append([]byte(nil), r.Raw...), append([]OutCell(nil), r.Cells...)
		for _, c := range r.Cells {
			out[c.Ordinal] = &kept
		}
		return nil
	})
	return out, err
}

// segment is how many ordinals are gone through at a time where the replies are
// wanted: theirs are held in memory meanwhile.
const segment = 250_000

// eachRow returns all rows, or those with some cells. Results are not joined by
// the database: rows come in the order in which they lie there, and what is
// known of an address is looked up in memory.
func (s *Store) eachRow(ctx context.Context, run Run, list List, with OutWith, cells []int32, do func(*OutRow) error) error {
	known, err := s.known(ctx, run, list, with, cells)
	if err != nil {
		return err
	}
	slots := int32(len(list.AddressColumns))
	last := int32(list.Rows) * slots
	if !with.Replies {
		return s.rowsBetween(ctx, list, known, 1, last, cells, do)
	}
	for from := int32(1); from <= last; from += segment / slots * slots {
		to := min(last, from+segment/slots*slots-1)
		if known.replies, err = s.repliesBetween(ctx, run.ID, known.latest, from, to); err != nil {
			return err
		}
		if err := s.rowsBetween(ctx, list, known, from, to, cells, do); err != nil {
			return err
		}
	}
	return nil
}

// rowsBetween returns the rows with ordinals from one to another.
func (s *Store) rowsBetween(ctx context.Context, list List, known *knowledge, from, to int32, cells []int32, do func(*OutRow) error) error {
	slots := int32(len(list.AddressColumns))
	o := OutRow{Cells: make([]OutCell, slots)}
	tell := func(r *Row) error {
		c := OutCell{Ordinal: r.Ordinal, Address: r.Address, Domain: r.Domain}
		known.tell(&c)
		slot := (r.Ordinal - 1) % slots
		if o.Cells[slot] = c; slot == 0 {
			o.Number, o.Raw, o.Tail = (r.Ordinal-1)/slots+1, append(o.Raw[:0], r.Raw...), append(o.Tail[:0], r.Tail...)
		}
		if slot < slots-1 {
			return nil
		}
		return do(&o)
	}
	if cells != nil {
		return s.eachCellAt(ctx, list.ID, cells, true, tell)
	}
	return s.eachCell(ctx, list.ID, from, to, true, tell)
}

// repliesBetween returns what hosts said last about the addresses from one to
// another that were asked about.
func (s *Store) repliesBetween(ctx context.Context, run int64, st results, from, to int32) (map[int32]Reply, error) {
	rows, err := s.db.Query(ctx, batchColumns+", evidence FROM batch WHERE run_id = $1 AND evidence IS NOT NULL", run)
	if err != nil {
		return nil, err
	}
	out, texts := map[int32]Reply{}, map[string]string{}
	err = eachBatch(rows, func(b *batch) error {
		if slices.Max(b.addresses) < from || slices.Min(b.addresses) > to {
			return nil
		}
		all, err := pack.ReadEvidence(b.evidence, len(b.addresses))
		for i, asked := range all {
			a := b.addresses[i]
			if a < from || a > to || len(asked) == 0 || st.Verdict(a) == 0 {
				continue
			}
			if id, _ := st.Batch(a); id != b.id {
				continue
			}
			last := asked[len(asked)-1]
			text, same := texts[last.Reply]
			if !same { // one text for all that got the same
				text = last.Reply
				texts[text] = text
			}
			out[a] = Reply{text, last.Parcel, last.Conversation}
		}
		return err
	})
	return out, err
}

// results are those of addresses: of a whole run, or of some.
type results interface {
	Verdict(address int32) int32
	// Batch is the batch in which the result of an address stands that has one, and when it was
	// recorded.
	Batch(address int32) (id int64, at time.Time)
}

// someResults are those of some addresses.
type someResults struct {
	found map[int32]Standing
	at    map[int64]time.Time // by batch
}

func (r someResults) Verdict(address int32) int32 { return r.found[address].Verdict }

func (r someResults) Batch(address int32) (id int64, at time.Time) {
	id = r.found[address].Batch
	return id, r.at[id]
}

// knowledge is what is known of the addresses of a run: in slices by address,
// or where only some are wanted by their place among them.
type knowledge struct {
	latest  results
	times   bool // when they were found
	replies map[int32]Reply
	some    map[int32]int32
	// domains are the places of the addresses' domains among the names met so
	// far.
	domains   []int32
	names     []string
	places    map[string]int32
	operators map[string]string // by domain
}

// known reads what is known of all addresses of a run, or of those in cells.
func (s *Store) known(ctx context.Context, run Run, list List, with OutWith, cells []int32) (k *knowledge, err error) {
	k = &knowledge{names: []string{""}, places: map[string]int32{}, times: with.Times || cells != nil}
	latest, err := s.Latest(ctx, run.ID)
	if err != nil {
		return k, err
	}
	if cells != nil {
		return k, s.knownOf(ctx, k, latest, list, cells)
	}
	if with.Times || with.Replies {
		k.latest, err = latest.WholeWithBatches(ctx)
	} else {
		k.latest, err = latest.Whole(ctx)
	}
	if err != nil || !with.Domains {
		return k, err
	}
	k.domains = make([]int32, int32(list.Rows)*int32(len(list.AddressColumns))+1)
	k.operators, err = s.domainsOf(ctx, run.ID, nil)
	return k, err
}

// knownOf reads what is known of the addresses in some cells, with their domains and operators.
func (s *Store) knownOf(ctx context.Context, k *knowledge, latest *Latest, list List, cells []int32) error {
	var addresses []int32
	domains := map[string]bool{}
	err := s.eachCellAt(ctx, list.ID, cells, false, func(r *Row) error {
		addresses, domains[r.Domain] = append(addresses, r.Address), true
		return nil
	})
	if err != nil {
		return err
	}
	some := someResults{}
	if some.found, err = latest.Of(ctx, addresses); err != nil {
		return err
	}
	var ids []int64
	for _, one := range some.found {
		ids = append(ids, one.Batch)
	}
	if some.at, err = s.timesOf(ctx, latest.run, ids); err != nil {
		return err
	}
	k.latest, k.domains, k.some = some, make([]int32, len(cells)+1), make(map[int32]int32, len(cells))
	for i, c := range cells {
		k.some[c] = int32(i) + 1
	}
	rows, err := s.db.Query(ctx, "SELECT domain, operator FROM run_domain WHERE run_id = $1 AND domain = ANY($2)", latest.run, sortedKeys(domains))
	k.operators, err = byKey[string](rows, err)
	return err
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
	c.Verdict, c.At, c.Reply = k.latest.Verdict(c.Address), time.Time{}, k.replies[c.Address]
	if c.Verdict != 0 && k.times {
		_, c.At = k.latest.Batch(c.Address)
	}
	place := k.place(c.Address)
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

// Exchangers returns the exchangers that were talked to in the parcels of a run,
// by parcel and conversation.
func (s *Store) Exchangers(ctx context.Context, run int64) (map[int64][]string, error) {
	rows, err := s.db.Query(ctx, `SELECT id, ARRAY(SELECT c->>'exchanger' FROM json_array_elements(record->'conversations') c)
		FROM parcel WHERE run_id = $1 AND json_typeof(record->'conversations') = 'array'`, run)
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
