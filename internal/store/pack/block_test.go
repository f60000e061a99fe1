package pack

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
)

// someRows are cells of every kind.
func someRows(rng *rand.Rand, n int32) (rows []Row) {
	line := int64(1)
	for o := int32(1); o <= n; o++ {
		r := Row{Ordinal: o, Line: line, Raw: []byte(fmt.Sprintf("%d;\"a\r\nb\";\n", o)), Typed: fmt.Sprintf("Reader%d@Seed.example", o)}
		line += int64(1 + rng.IntN(3))
		if rng.IntN(9) == 0 {
			r.Tail = []byte("\n \n")
		}
		switch rng.IntN(6) {
		case 0:
			r.Raw, r.Typed = []byte{}, ""
		case 1:
			if o > 1 {
				r.Address = 1 + rng.Int32N(o-1)
			}
		case 2:
			r.Address, r.Typed, r.Problem = o, "no address\nat all", &Problem{Cause: "syntax.malformed", Position: rng.IntN(2), Reason: "There is no @ in it."}
		case 3:
			r.Address, r.Mailbox, r.Domain = o, fmt.Sprintf("Reader%d@seed.example", o), "seed.example"
			r.Traits, r.Mended = []string{"role", "tagged"}, []string{"a space taken off", ""}
		default:
			r.Typed = strings.ToLower(r.Typed)
			r.Address, r.Mailbox, r.Domain = o, r.Typed, "seed.example"
		}
		rows = append(rows, r)
	}
	return rows
}

func blockOf(rows []Row) *Block {
	b := &Block{}
	b.Start()
	for i := range rows {
		b.Add(&rows[i])
	}
	return b
}

// TestBlocksComeBack: what is packed comes back as it was, without the records where
// these are not read.
func TestBlocksComeBack(t *testing.T) {
	rows := someRows(rand.New(rand.NewPCG(1, 7)), 300)
	b := blockOf(rows)
	got, err := b.Rows(make([]Row, 0, 7))
	if err != nil || len(got) != len(rows) {
		t.Fatalf("%d of %d cells: %v", len(got), len(rows), err)
	}
	malformed := int32(0)
	texts := strings.Split(string(b.Texts), "\n")
	for i, want := range rows {
		if got[i].Tail = append([]byte(nil), got[i].Tail...); !reflect.DeepEqual(got[i], want) {
			t.Errorf("cell %d: %+v came back as %+v", want.Ordinal, want, got[i])
		}
		text := ""
		if want.Address != 0 && want.First() {
			text = Searched(want.Typed)
		}
		if texts[i] != text {
			t.Errorf("cell %d is looked for as %q; want %q", want.Ordinal, texts[i], text)
		}
		if want.Problem != nil {
			malformed++
		}
	}
	if len(texts) != len(rows) || b.Malformed != malformed {
		t.Errorf("%d texts of %d, %d malformed of %d", len(texts), len(rows), b.Malformed, malformed)
	}
	b.Records = nil
	got, err = b.Rows(got)
	if err != nil || got[4].Raw != nil || got[4].Typed != rows[4].Typed {
		t.Errorf("without records: %+v, %v", got[4], err)
	}
}

// TestBlocksEnd with their cells, and with their bytes: a block of large records is
// not a large block.
func TestBlocksEnd(t *testing.T) {
	rows := someRows(rand.New(rand.NewPCG(1, 7)), blockCells)
	if blockOf(rows[:blockCells-1]).Full() || !blockOf(rows).Full() {
		t.Errorf("a block does not end with %d cells", blockCells)
	}
	rows[1].Raw = bytes.Repeat([]byte{'x'}, blockBytes)
	if blockOf(rows[:1]).Full() || !blockOf(rows[:2]).Full() {
		t.Errorf("a block does not end with %d bytes", blockBytes)
	}
}

// TestDamagedBlocks: whatever became of it, it is an error or cells, and refers to
// nothing that is not before.
func TestDamagedBlocks(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 9))
	whole := blockOf(someRows(rng, 60))
	for cut := range len(whole.Cells) {
		b := *whole
		b.Cells = b.Cells[:cut]
		if _, err := b.Rows(nil); err == nil {
			t.Fatalf("%d of %d bytes are taken for a whole block", cut, len(whole.Cells))
		}
	}
	for cut := range len(whole.Records) {
		b := *whole
		b.Records = b.Records[:cut]
		if _, err := b.Rows(nil); err == nil {
			t.Fatalf("%d of %d bytes of records are taken for all", cut, len(whole.Records))
		}
	}
	for range 5000 {
		b := *whole
		b.Cells = bytes.Clone(b.Cells)
		for range 1 + rng.IntN(4) {
			b.Cells[rng.IntN(len(b.Cells))] = byte(rng.Uint32())
		}
		cells, err := b.Rows(nil)
		for _, c := range cells {
			if err == nil && (c.Address < 0 || c.Address > c.Ordinal) {
				t.Fatalf("cell %d refers to %d", c.Ordinal, c.Address)
			}
		}
	}
}
