package store_test

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"varnet/core/finding"
	"varnet/core/sheet"
	"varnet/internal/store"
)

// garden is a list of two address columns with cells of every kind, held in the
// plainest way.
type garden struct {
	list store.List
	rows []store.Row // by ordinal, from 1
}

// newGarden brings such a list in; one of its records is larger than a block.
func newGarden(t *testing.T, s *store.Store, w int64, rng *rand.Rand, n int32) garden {
	t.Helper()
	g := garden{rows: make([]store.Row, 1), list: store.List{WorkspaceID: w, Name: "growers", Columns: []string{"e-mail", "second"}, AddressColumns: []int{0, 1},
		Kinds: []sheet.Kind{{Type: sheet.Text}, {Type: sheet.Text}}, Header: []byte{}, Dialect: sheet.Dialect{Encoding: sheet.UTF8}}}
	members := map[string]*store.Members{}
	for o := int32(1); o <= 2*n; o++ {
		r := store.Row{Ordinal: o, Line: int64(o+1) / 2 * 3, Raw: []byte{}}
		if o%2 == 1 {
			r.Raw = []byte(fmt.Sprintf("record %d\n", o))
			if o == 1401 {
				r.Raw = bytes.Repeat([]byte("long "), 300_000)
			}
			if rng.IntN(5) == 0 {
				r.Tail = []byte("\n\n")
			}
		}
		g.fill(&r, rng)
		if r.Domain != "" {
			if members[r.Domain] == nil {
				members[r.Domain] = &store.Members{}
			}
			members[r.Domain].Add(o, strings.TrimSuffix(r.Mailbox, "@"+r.Domain), traits(r.Traits))
			g.list.Addresses++
		}
		g.rows = append(g.rows, r)
	}
	g.list.Rows = int64(n)
	bring(t, s, &g.list, 2*n, members, func(ordinal int32) *store.Row { return &g.rows[ordinal] })
	return g
}

// fill makes a cell an address, an earlier one, none, or empty.
func (g *garden) fill(r *store.Row, rng *rand.Rand) {
	switch kind := rng.IntN(10); {
	case kind == 0:
		r.Typed = " "
	case kind == 1 && r.Ordinal > 9:
		if first := g.rows[1+rng.Int32N(r.Ordinal-1)]; first.Address != 0 {
			r.Typed, r.Address = "again", first.Address
		}
	case kind == 2:
		r.Typed, r.Address, r.Problem = fmt.Sprintf("none %d", r.Ordinal), r.Ordinal, &store.Problem{Cause: string(finding.SyntaxMalformed), Reason: "no @"}
	default:
		r.Domain = []string{"rye.example", "mossgate.example"}[rng.IntN(2)]
		r.Mailbox = fmt.Sprintf("Anna%d@%s", r.Ordinal, r.Domain)
		r.Typed, r.Address = strings.ToUpper(r.Mailbox), r.Ordinal
		if kind == 3 {
			r.Typed, r.Mended, r.Traits = " "+r.Mailbox, []string{"a space taken off"}, []string{"role"}
		}
	}
}

func traits(words []string) (out []finding.Trait) {
	for _, w := range words {
		out = append(out, finding.Trait(w))
	}
	return out
}

// TestRowsAgainstAModel asks for rows in every way there is.
func TestRowsAgainstAModel(t *testing.T) {
	s := open(t)
	rng := rand.New(rand.NewPCG(8, 15))
	g := newGarden(t, s, workspace(t, s, "ours"), rng, 1500)
	t.Run("as they came", func(t *testing.T) { g.holdRows(t, s) })
	t.Run("by number", func(t *testing.T) { g.holdNumbers(t, s, rng) })
	t.Run("troubles", func(t *testing.T) { g.holdTroubles(t, s) })
	t.Run("no addresses", func(t *testing.T) { g.holdMalformed(t, s) })
	t.Run("addresses", func(t *testing.T) { g.holdAddresses(t, s, rng) })
}

func (g *garden) holdRows(t *testing.T, s *store.Store) {
	next := int32(1)
	err := s.EachRow(t.Context(), store.Run{}, g.list, store.OutWith{}, func(r *store.OutRow) error {
		first, second := g.rows[next], g.rows[next+1]
		if r.Number != (next+1)/2 || !bytes.Equal(r.Raw, first.Raw) || !bytes.Equal(r.Tail, first.Tail) || r.Cells[0].Address != first.Address || r.Cells[1].Address != second.Address {
			t.Errorf("row %d with %d bytes, %+v; want %+v and %+v", r.Number, len(r.Raw), r.Cells, first.Address, second.Address)
		}
		next += 2
		return nil
	})
	if err != nil || int(next) != len(g.rows) {
		t.Errorf("rows up to %d: %v", next, err)
	}
}

func (g *garden) holdNumbers(t *testing.T, s *store.Store, rng *rand.Rand) {
	var numbers []int32
	for range 40 {
		numbers = append(numbers, 1+rng.Int32N(1500))
	}
	rows, err := s.RawRows(t.Context(), g.list, append(numbers, 701, 99_999))
	if err != nil || len(rows) != 41 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	for i, n := range append(numbers, 701) {
		if want := g.rows[2*n-1]; rows[i].Ordinal != want.Ordinal || rows[i].Line != want.Line || !bytes.Equal(rows[i].Raw, want.Raw) {
			t.Errorf("row %d stands as %d in line %d", n, rows[i].Ordinal, rows[i].Line)
		}
	}
}

func (g *garden) holdTroubles(t *testing.T, s *store.Store) {
	var want, got []string
	for i := 1; i < len(g.rows); i += 2 {
		both := g.rows[i : i+2]
		for _, r := range both {
			first := store.Row{}
			if r.Address != 0 && !r.First() {
				first = g.rows[r.Address]
			}
			switch {
			case r.Address == 0:
				if both[0].Address == 0 && both[1].Address == 0 && r.Ordinal%2 == 0 {
					want = append(want, fmt.Sprint(r.Line, " empty"))
				}
			case !r.First():
				want = append(want, fmt.Sprint(r.Line, " as ", first.Line, first.Problem != nil))
			case r.Problem != nil || r.Mended != nil:
				want = append(want, fmt.Sprint(r.Line, r.Typed, r.Mended, r.Problem != nil))
			}
		}
	}
	err := s.EachTrouble(t.Context(), g.list, func(x *store.Trouble) error {
		if x.Row*3 != int32(x.Line) {
			t.Errorf("row %d in line %d", x.Row, x.Line)
		}
		switch {
		case x.Address == nil:
			got = append(got, fmt.Sprint(x.Line, " empty"))
		case x.First != nil:
			got = append(got, fmt.Sprint(x.Line, " as ", *x.First, x.Problem != nil))
		default:
			got = append(got, fmt.Sprint(x.Line, x.Typed, x.Mended, x.Problem != nil))
		}
		return nil
	})
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("%v: %d troubles; want %d", err, len(got), len(want))
	}
}

func (g *garden) holdMalformed(t *testing.T, s *store.Store) {
	var want, got []int32
	for _, r := range g.rows {
		if r.Problem != nil {
			want = append(want, r.Ordinal)
		}
	}
	for after := int32(0); ; {
		page, err := s.Malformed(t.Context(), g.list.ID, after, 70)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range page {
			got, after = append(got, m.Ordinal), m.Ordinal
		}
		if len(page) < 70 {
			break
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("%d cells are not addresses; want %d", len(got), len(want))
	}
}

func (g *garden) holdAddresses(t *testing.T, s *store.Store, rng *rand.Rand) {
	var some, formed, there []int32
	var mailboxes []string
	for range 90 {
		some = append(some, rng.Int32N(int32(len(g.rows))+60))
	}
	for _, o := range slices.Compact(slices.Sorted(slices.Values(some))) {
		if int(o) < len(g.rows) && g.rows[o].Domain != "" {
			formed, mailboxes = append(formed, o), append(mailboxes, g.rows[o].Mailbox)
		}
	}
	found, err := s.AddressesAt(t.Context(), g.list.ID, some)
	for i, a := range found {
		there = append(there, a.Ordinal)
		if r := g.rows[a.Ordinal]; a.Mailbox != r.Mailbox || a.Domain != r.Domain || len(a.Traits) != len(r.Traits) || i > 0 && found[i-1].Domain > a.Domain {
			t.Errorf("%+v; want %+v", a, r)
		}
	}
	if slices.Sort(there); err != nil || !slices.Equal(there, formed) {
		t.Errorf("addresses: %v, %v; want %v", there, err, formed)
	}
	numbers, err := s.Numbers(t.Context(), g.list.ID, append(mailboxes, "nobody@rye.example", "nobody@nowhere.example", "no address"))
	if err != nil || !slices.Equal(numbers, formed) {
		t.Errorf("numbers: %v, %v; want %v", numbers, err, formed)
	}
	if one, err := s.Numbers(t.Context(), g.list.ID, mailboxes[:1]); err != nil || !slices.Equal(one, formed[:1]) {
		t.Errorf("the number of one: %v, %v", one, err)
	}
}

// TestWhatListsHaveInCommon: mailboxes are the same whatever the case they are
// written in, and where they stand.
func TestWhatListsHaveInCommon(t *testing.T) {
	s := open(t)
	w, rng := workspace(t, s, "ours"), rand.New(rand.NewPCG(4, 2))
	g, h := newGarden(t, s, w, rng, 400), newGarden(t, s, w, rng, 900)
	lines := map[string]int64{}
	for _, r := range h.rows {
		if r.Domain != "" {
			lines[r.Mailbox] = r.Line
		}
	}
	want, got := map[int64]int64{}, map[int64]int64{}
	for _, r := range g.rows {
		if line := lines[r.Mailbox]; line != 0 {
			want[int64(r.Ordinal)] = line
		}
	}
	err := s.EachCommon(t.Context(), g.list, h.list, func(x *store.Trouble) error {
		got[int64(*x.Address)] = *x.First
		return nil
	})
	if err != nil || len(got) != len(want) || len(want) == 0 {
		t.Fatalf("%v: %d in common; want %d", err, len(got), len(want))
	}
	for o, line := range want {
		if got[o] != line {
			t.Errorf("address %d stands in line %d; want %d", o, got[o], line)
		}
	}
}

// TestEnoughRows: whoever has enough rows gets no further one, and no error; an error of theirs is theirs.
func TestEnoughRows(t *testing.T) {
	s := open(t)
	run := newRun(t, s, workspace(t, s, "ours"), 600)
	l, err := s.List(t.Context(), run.WorkspaceID, run.ListID)
	if err != nil {
		t.Fatal(err)
	}
	broken := errors.New("the file is full")
	for want, end := range map[error]error{nil: store.ErrEnough, broken: broken} {
		var numbers []int32
		err := s.EachRow(t.Context(), store.Run{}, l, store.OutWith{}, func(r *store.OutRow) error {
			if numbers = append(numbers, r.Number); len(numbers) == 3 {
				return fmt.Errorf("row %d: %w", r.Number, end)
			}
			return nil
		})
		if !errors.Is(err, want) || !slices.Equal(numbers, []int32{1, 2, 3}) {
			t.Errorf("ended with %v: %v, after the rows %v", end, err, numbers)
		}
	}
}
