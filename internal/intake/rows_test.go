package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"time"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/sheet"
	"varnet/internal/store"
)

// seedList is a list of two address columns, as it is settled before it is read.
func seedList() *store.List {
	return &store.List{Dialect: sheet.Dialect{Delimiter: ",", Quote: `"`, Encoding: sheet.UTF8, Header: true}, AddressColumns: []int{1, 2}}
}

const seedFile = "\ufeff\nname,e-mail,second\n" +
	"Ada,ada@Seed.example,ADA@seed.example\n\n\r\n" +
	"Ben,,\n" +
	"\"C, C\", cy@seed.example ,not an address\n" +
	"Dot,ada@seed.example,\n" +
	"Eve,info@seed.example,=1+1\n"

// rowsOf reads a file as it is imported.
func rowsOf(t *testing.T, file io.Reader, l *store.List) (rows []store.Row, r *rowReader, err error) {
	t.Helper()
	records := newRecordReader(file, l, address.Grammar{})
	if l.Header, err = records.header(); err != nil {
		return nil, nil, err
	}
	r = newRowReader(ahead(t.Context(), records.next, (*record).size), l, catalogue.Default())
	next := ahead(t.Context(), r.next, rowSize)
	for {
		row, err := next()
		if row == nil || err != nil {
			return rows, r, err
		}
		rows = append(rows, *row)
	}
}

// TestRowsOfAFile: every byte stands somewhere, every cell has its number, and the
// counts say what was read.
func TestRowsOfAFile(t *testing.T) {
	l := seedList()
	rows, r, err := rowsOf(t, strings.NewReader(seedFile), l)
	if err != nil {
		t.Fatal(err)
	}
	whole := string(l.Header)
	var addresses []int32
	for i, row := range rows {
		if row.Ordinal != int32(i)+1 {
			t.Errorf("cell %d has number %d", i+1, row.Ordinal)
		}
		whole += string(row.Raw) + string(row.Tail)
		addresses = append(addresses, row.Address)
	}
	if whole != seedFile {
		t.Errorf("the file came back as %q", whole)
	}
	if want := []int32{1, 1, 0, 0, 5, 6, 1, 0, 9, 10}; !slices.Equal(addresses, want) {
		t.Errorf("addresses %v; want %v", addresses, want)
	}
	if string(rows[0].Tail) != "\n\r\n" || rows[4].Line != 7 || len(rows[4].Mended) == 0 || rows[5].Problem == nil || !slices.Contains(rows[8].Traits, "role") {
		t.Errorf("rows: %+v", rows)
	}
	want := store.ListCounts{Rows: 5, Addresses: 3, Malformed: 2, Duplicates: 1, Blank: 1, Mended: 1, Formulas: 1}
	if l.ListCounts != want {
		t.Errorf("counts %+v; want %+v", l.ListCounts, want)
	}
	if m := r.members(); len(m) != 1 || m["seed.example"].Len() != 3 || r.domains["seed.example"].addresses != 3 {
		t.Errorf("domains: %v", m)
	}
}

// TestAFileThatBreaksOff returns its rows up to there, and then the error.
func TestAFileThatBreaksOff(t *testing.T) {
	broken := errors.New("the line is dead")
	l := seedList()
	rows, _, err := rowsOf(t, io.MultiReader(strings.NewReader(seedFile), iotest.ErrReader(broken)), l)
	if !errors.Is(err, broken) || len(rows) < 2 || len(rows) > 10 {
		t.Errorf("%d cells, and then %v", len(rows), err)
	}
}

// TestAFileOfNothing has no rows, and says so.
func TestAFileOfNothing(t *testing.T) {
	for _, file := range []string{"", "\n\n", "name,e-mail,second\n", "\ufeffname,e-mail,second"} {
		l := seedList()
		rows, r, err := rowsOf(t, strings.NewReader(file), l)
		if err != nil || len(rows) != 0 || string(l.Header) != file {
			t.Errorf("%q: %d rows, header %q, %v", file, len(rows), l.Header, err)
			continue
		}
		if err := r.check(func() error { return nil }); err == nil || !strings.Contains(err.Error(), "no rows") {
			t.Errorf("%q: %v", file, err)
		}
	}
}

func one(*int) int { return 1 }

// TestAheadOfLarge: of large things fewer are made ahead.
func TestAheadOfLarge(t *testing.T) {
	var made atomic.Int32
	next := ahead(t.Context(), func() (*int, error) { n := int(made.Add(1)); return &n, nil }, func(*int) int { return aheadBytes / 2 })
	if _, err := next(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(50 * time.Millisecond)
	if n := made.Load(); n > 2*(aheadBatches+3) {
		t.Errorf("%d of half a megabyte and more were made ahead", n)
	}
}

// TestTooManyRows: a file is left as soon as it has more rows than there may be.
func TestTooManyRows(t *testing.T) {
	file := io.MultiReader(strings.NewReader("e-mail\n"), &endless{line: "ada@fernhollow.example\n"})
	l := &store.List{Dialect: sheet.Dialect{Delimiter: ",", Quote: `"`, Encoding: sheet.UTF8, Header: true}, AddressColumns: []int{0}}
	records := newRecordReader(file, l, address.Grammar{})
	if _, err := records.header(); err != nil {
		t.Fatal(err)
	}
	r := newRowReader(records.next, l, catalogue.Default())
	r.left = 1000
	for {
		row, err := r.next()
		if row != nil {
			continue
		}
		var full *TooManyRows
		if !errors.As(err, &full) || l.Rows != r.left+1 {
			t.Errorf("after %d rows: %v", l.Rows, err)
		}
		return
	}
}

// endless is a line again and again.
type endless struct {
	line string
	at   int
}

func (e *endless) Read(b []byte) (int, error) {
	n := copy(b, e.line[e.at:])
	e.at = (e.at + n) % len(e.line)
	return n, nil
}

// TestAhead makes what is wanted in order, and no more than its batches once nobody
// wants more.
func TestAhead(t *testing.T) {
	const all = 5*aheadOf + 7
	made := 0
	numbers := func() (*int, error) {
		if made++; made > all {
			return nil, nil
		}
		n := made
		return &n, nil
	}
	next := ahead(t.Context(), numbers, one)
	for want := 1; want <= all; want++ {
		if n, err := next(); err != nil || n == nil || *n != want {
			t.Fatalf("%v, %v; want %d", n, err, want)
		}
	}
	for range 3 {
		if n, err := next(); n != nil || err != nil {
			t.Fatalf("after the last: %v, %v", n, err)
		}
	}
	failing := ahead(t.Context(), func() (*int, error) { return nil, fmt.Errorf("nothing of the kind") }, one)
	for range 2 {
		if n, err := failing(); n != nil || err == nil {
			t.Fatalf("%v, %v", n, err)
		}
	}
}

// TestAFaultAheadEndsTheImport: a fault of ours in what is made ahead comes to light where it is read, behind all that was made
// before it.
func TestAFaultAheadEndsTheImport(t *testing.T) {
	made, read := 0, 0
	next := ahead(t.Context(), func() (*int, error) {
		if made++; made > aheadOf+1 {
			panic("a place beyond the end")
		}
		return &made, nil
	}, func(*int) int { return 1 })
	defer func() {
		if told := fmt.Sprint(recover()); !strings.HasPrefix(told, "a place beyond the end") || read != aheadOf {
			t.Errorf("after %d read: %s", read, told)
		}
	}()
	for ; read <= aheadOf; read++ {
		if one, err := next(); one == nil || err != nil {
			t.Fatalf("after %d read: %v", read, err)
		}
	}
}

// TestAheadEnds: who stops listening is not waited for.
func TestAheadEnds(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	ended, n := make(chan bool), 0
	next := ahead(ctx, func() (*int, error) {
		if n++; n == (aheadBatches+2)*aheadOf+1 {
			close(ended)
		}
		return &n, nil
	}, one)
	if _, err := next(); err != nil {
		t.Fatal(err)
	}
	cancel()
	select {
	case <-ended:
		t.Error("it made on")
	case <-time.After(50 * time.Millisecond):
	}
	for range (aheadBatches + 3) * aheadOf {
		if one, err := next(); one == nil {
			if err == nil {
				t.Error("the end is taken for the last")
			}
			return
		}
	}
	t.Error("it never ends")
}
