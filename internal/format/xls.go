package format

import (
	"bufio"
	"encoding/binary"
	"errors"
	"io"
	"math"
	"os"
	"slices"
	"strings"
	"unicode/utf16"

	"github.com/richardlehane/mscfb"
)

// maxXLS is how large a workbook of the kind before 2007 may be: its texts must
// be held in memory.
const maxXLS = 64 << 20

// The records of such a workbook that are read ([MS-XLS], section 2.3).
const (
	xlsFormula    = 0x0006
	xlsEOF        = 0x000A
	xls1904       = 0x0022
	xlsFilePass   = 0x002F
	xlsContinue   = 0x003C
	xlsBoundSheet = 0x0085
	xlsMulRK      = 0x00BD
	xlsXF         = 0x00E0
	xlsSST        = 0x00FC
	xlsLabelSST   = 0x00FD
	xlsNumber     = 0x0203
	xlsLabel      = 0x0204
	xlsBoolErr    = 0x0205
	xlsString     = 0x0207
	xlsRK         = 0x027E
	xlsFormat     = 0x041E
	xlsBOF        = 0x0809
)

// xls reads one sheet of a workbook of the kind before 2007 ([MS-XLS]): values
// as they are shown, of formulas the last ones computed.
func (t *Table) xls(in io.Reader, o Options) error {
	f, _, err := t.spool(in, maxXLS)
	if err != nil {
		return err
	}
	stream, err := workbookStream(f)
	if err != nil {
		return err
	}
	b, err := readXLSBook(stream)
	if err != nil {
		return err
	}
	names := make([]string, len(b.sheets))
	for i, s := range b.sheets {
		names[i] = s.name
	}
	return t.sheets(XLS, names, o, func(name string) (func() ([]string, error), error) {
		s := b.sheets[slices.Index(names, name)]
		if s.offset < 0 || s.offset >= len(stream) {
			return nil, damaged(XLS)
		}
		r := &xlsSheet{book: b, records: xlsRecords{rest: stream[s.offset:]}}
		return r.next, nil
	})
}

// workbookStream takes the workbook out of the compound file ([MS-CFB]).
func workbookStream(f *os.File) ([]byte, error) {
	c, err := mscfb.New(f)
	if err != nil {
		return nil, damaged(XLS)
	}
	found := map[string]*mscfb.File{}
	for _, e := range c.File {
		found[e.Name] = e
	}
	switch {
	case found["EncryptedPackage"] != nil:
		return nil, protected()
	case found["Workbook"] != nil:
		b, err := io.ReadAll(bufio.NewReader(io.LimitReader(found["Workbook"], maxXLS)))
		if err != nil {
			return nil, damaged(XLS)
		}
		return b, nil
	case found["Book"] != nil:
		return nil, wrong("This is a workbook of the kind before 1997. Open it, save it as XLSX or CSV, and import that.")
	}
	return nil, wrong("This is an old document and no table. Copy the list into a spreadsheet or a text file, and import that.")
}

// xlsRecords returns the records of a stream one by one.
type xlsRecords struct{ rest []byte }

var errXLS = errors.New("damaged")

// next returns the next record, io.EOF after the last.
func (r *xlsRecords) next() (kind uint16, data []byte, err error) {
	if len(r.rest) < 4 {
		return 0, nil, io.EOF
	}
	kind = binary.LittleEndian.Uint16(r.rest)
	n := int(binary.LittleEndian.Uint16(r.rest[2:])) + 4
	if n > len(r.rest) {
		return 0, nil, errXLS
	}
	data, r.rest = r.rest[4:n], r.rest[n:]
	return kind, data, nil
}

// continued returns the records that go on with one.
func (r *xlsRecords) continued() (parts [][]byte) {
	for len(r.rest) >= 4 && binary.LittleEndian.Uint16(r.rest) == xlsContinue {
		_, data, err := r.next()
		if err != nil {
			return parts
		}
		parts = append(parts, data)
	}
	return parts
}

// xlsBook is what holds for all sheets of a workbook.
type xlsBook struct {
	numberFormats
	sheets []xlsPlace
	texts  []string
}

type xlsPlace struct {
	name   string
	offset int
}

func readXLSBook(stream []byte) (b *xlsBook, err error) {
	b = &xlsBook{numberFormats: numberFormats{own: map[uint16]string{}}}
	defer func() { // a record that is too short for what it says
		if fault := recover(); fault != nil {
			b, err = nil, damaged(XLS)
		}
	}()
	r := xlsRecords{rest: stream}
	for {
		kind, data, err := r.next()
		if err != nil {
			return nil, damaged(XLS)
		}
		switch kind {
		case xlsBOF:
			if binary.LittleEndian.Uint16(data) != 0x0600 {
				return nil, wrong("This is a workbook of the kind before 1997. Open it, save it as XLSX or CSV, and import that.")
			}
		case xlsFilePass:
			return nil, protected()
		case xls1904:
			b.since04 = binary.LittleEndian.Uint16(data) == 1
		case xlsFormat:
			b.own[binary.LittleEndian.Uint16(data)] = xlsText(data[2:], 2)
		case xlsXF:
			b.styles = append(b.styles, binary.LittleEndian.Uint16(data[2:]))
		case xlsBoundSheet:
			if data[5] == 0 { // a worksheet, and no chart
				b.sheets = append(b.sheets, xlsPlace{xlsText(data[6:], 1), int(binary.LittleEndian.Uint32(data))})
			}
		case xlsSST:
			b.texts = readSST(data, r.continued())
		case xlsEOF:
			return b, nil
		}
	}
}

// xlsText reads a text whose length takes so many bytes ([MS-XLS], 2.5.293).
func xlsText(data []byte, length int) string {
	n := int(data[0])
	if length == 2 {
		n = int(binary.LittleEndian.Uint16(data))
	}
	wide, chars := data[length]&1 == 1, data[length+1:]
	return xlsChars(chars, n, wide)
}

func xlsChars(b []byte, n int, wide bool) string {
	units := make([]uint16, n)
	for i := range units {
		if wide {
			units[i] = binary.LittleEndian.Uint16(b[2*i:])
		} else {
			units[i] = uint16(b[i])
		}
	}
	return string(utf16.Decode(units))
}

// readSST reads the table of texts. A text may go on in the next record, which
// then begins with a byte that says anew how wide its letters are.
func readSST(data []byte, more [][]byte) []string {
	n := min(int(binary.LittleEndian.Uint32(data[4:])), maxXLS/3)
	s := sstReader{data[8:], more}
	var texts []string
	for range n {
		if len(s.b) == 0 && len(s.more) == 0 {
			break
		}
		texts = append(texts, s.text())
	}
	return texts
}

type sstReader struct {
	b    []byte
	more [][]byte
}

// take returns the next bytes, over the edges of records.
func (s *sstReader) take(n int) []byte {
	var out []byte
	for len(s.b) < n {
		out, n = append(out, s.b...), n-len(s.b)
		s.b, s.more = s.more[0], s.more[1:]
	}
	out, s.b = append(out, s.b[:n]...), s.b[n:]
	return out
}

func (s *sstReader) text() string {
	n, flags, runs, extra := int(binary.LittleEndian.Uint16(s.take(2))), s.take(1)[0], 0, 0
	if flags&8 != 0 {
		runs = int(binary.LittleEndian.Uint16(s.take(2)))
	}
	if flags&4 != 0 {
		extra = int(binary.LittleEndian.Uint32(s.take(4)))
	}
	var b strings.Builder
	for n > 0 {
		size := 1 + int(flags&1)
		here := min(n, len(s.b)/size)
		b.WriteString(xlsChars(s.take(here*size), here, size == 2))
		if n -= here; n > 0 {
			s.b, s.more = s.more[0], s.more[1:]
			flags = s.take(1)[0]
		}
	}
	s.take(4*runs + extra)
	return b.String()
}

// xlsSheet returns the rows of a sheet. Cells stand in the order of the rows.
type xlsSheet struct {
	book    *xlsBook
	records xlsRecords
	given   int      // rows given so far
	pending []string // the next row with something in it
	at      int      // and its number, from 0
	ended   bool
}

// next returns the next row, nil after the last.
func (s *xlsSheet) next() (row []string, err error) {
	defer func() {
		if fault := recover(); fault != nil {
			row, err = nil, damaged(XLS)
		}
	}()
	if s.pending == nil && !s.ended {
		s.pending, s.at, err = s.read()
	}
	switch {
	case err != nil || s.pending == nil:
		return nil, err
	case s.at < s.given:
		return nil, damaged(XLS)
	case s.given < s.at: // nothing is in it
		row = []string{}
	default:
		row, s.pending = s.pending, nil
	}
	s.given++
	return row, nil
}

// read gathers the cells of the next row that has any.
func (s *xlsSheet) read() (cells []string, row int, err error) {
	for {
		before := s.records
		kind, data, err := s.records.next()
		if err != nil {
			return nil, 0, damaged(XLS)
		}
		if kind == xlsEOF {
			s.ended = true
			return cells, row, nil
		}
		if !slices.Contains(xlsCells, kind) {
			continue
		}
		here := int(binary.LittleEndian.Uint16(data))
		if cells != nil && here != row {
			s.records = before // it belongs to the next row
			return cells, row, nil
		}
		row = here
		column := int(binary.LittleEndian.Uint16(data[2:]))
		for i, text := range s.texts(kind, data) {
			for len(cells) <= column+i {
				cells = append(cells, "")
			}
			cells[column+i] = text
		}
	}
}

// xlsCells are the records that hold cells.
var xlsCells = []uint16{xlsFormula, xlsMulRK, xlsLabelSST, xlsNumber, xlsLabel, xlsBoolErr, xlsRK}

// texts returns the cells of a record as they are shown.
func (s *xlsSheet) texts(kind uint16, data []byte) []string {
	style := binary.LittleEndian.Uint16(data[4:])
	switch kind {
	case xlsLabelSST:
		return []string{s.book.texts[binary.LittleEndian.Uint32(data[6:])]}
	case xlsLabel:
		return []string{xlsText(data[6:], 2)}
	case xlsNumber:
		return []string{s.book.shown(float(data[6:]), int(style))}
	case xlsRK:
		return []string{s.book.shown(rk(data[6:]), int(style))}
	case xlsBoolErr:
		return []string{boolOrError(data[6], data[7] == 1)}
	case xlsMulRK:
		var out []string
		for b := data[4 : len(data)-2]; len(b) >= 6; b = b[6:] {
			out = append(out, s.book.shown(rk(b[2:]), int(binary.LittleEndian.Uint16(b))))
		}
		return out
	}
	return []string{s.computed(data, style)}
}

// computed is the last value of a formula ([MS-XLS], 2.5.133).
func (s *xlsSheet) computed(data []byte, style uint16) string {
	if data[12] != 0xff || data[13] != 0xff {
		return s.book.shown(float(data[6:]), int(style))
	}
	switch data[6] {
	case 0: // the text stands in a record of its own, after those that share the formula
		for ahead := s.records; ; {
			kind, text, err := ahead.next()
			if err != nil || slices.Contains(xlsCells, kind) || kind == xlsEOF {
				return ""
			}
			if kind == xlsString {
				return xlsText(text, 2)
			}
		}
	case 1, 2:
		return boolOrError(data[8], data[6] == 2)
	}
	return ""
}

func float(b []byte) float64 { return math.Float64frombits(binary.LittleEndian.Uint64(b)) }

// rk reads a number in its short form ([MS-XLS], 2.5.217).
func rk(b []byte) float64 {
	v := binary.LittleEndian.Uint32(b)
	f := math.Float64frombits(uint64(v&^3) << 32)
	if v&2 != 0 {
		f = float64(int32(v) >> 2)
	}
	if v&1 != 0 {
		f /= 100
	}
	return f
}

var xlsErrors = map[byte]string{0x00: "#NULL!", 0x07: "#DIV/0!", 0x0f: "#VALUE!", 0x17: "#REF!", 0x1d: "#NAME?", 0x24: "#NUM!", 0x2a: "#N/A"}

func boolOrError(value byte, isError bool) string {
	switch {
	case isError:
		return xlsErrors[value]
	case value == 1:
		return "TRUE"
	}
	return "FALSE"
}
