package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"varnet/core/address"
)

// SampleSize is how much of a file Guess wants to see.
const SampleSize = 256 << 10

// Guessed is what Guess makes of the beginning of a file.
type Guessed struct {
	Dialect Dialect
	// Columns are the names of the columns; without a header they are
	// "column 1" and so on.
	Columns []string
	// AddressColumn is the number, from 0, of the column that holds the
	// addresses; -1 where none does.
	AddressColumn int
	// AlsoAddresses are other columns that hold addresses.
	AlsoAddresses []int
	// several is how many addresses a cell of each column holds, at most.
	several []int
	// Kinds are what the columns hold, told by the first records.
	Kinds []Kind
	// Rows are the cells of the first records after the header.
	Rows [][]string
}

// previewRows is how many rows a guess shows, typedRows by how many it tells
// what the columns hold.
const (
	previewRows = 20
	typedRows   = 500
)

// Overrule settles what is not to be guessed; nil leaves it.
type Overrule struct {
	Delimiter, Quote, Encoding *string
	Header                     *bool
}

// Check tells what cannot be, in a sentence.
func (o Overrule) Check() error {
	switch {
	case o.Delimiter != nil && (len(*o.Delimiter) > 1 || strings.ContainsAny(*o.Delimiter, "\r\n\x00\"")):
		return &Error{0, fmt.Sprintf("%q cannot be the delimiter between cells; give one character, or none for one cell a line.", *o.Delimiter)}
	case o.Quote != nil && *o.Quote != "" && *o.Quote != `"` && *o.Quote != "'":
		return &Error{0, fmt.Sprintf("%q cannot be the quote around cells; use a double or a single quote, or none.", *o.Quote)}
	case o.Encoding != nil && !slices.Contains(Encodings(), *o.Encoding):
		return &Error{0, fmt.Sprintf("The encoding %q is not known. Known are: %s.", *o.Encoding, strings.Join(Encodings(), ", "))}
	}
	return nil
}

// Guess tells how a file is written from its beginning. It returns an *Error
// for what is not a text table.
func Guess(sample []byte) (Guessed, error) { return GuessWith(sample, Overrule{}) }

// GuessWith guesses what is not overruled.
func GuessWith(sample []byte, o Overrule) (Guessed, error) {
	if err := o.Check(); err != nil {
		return Guessed{}, err
	}
	d := Dialect{Quote: `"`, Encoding: guessEncoding(sample)}
	if o.Encoding != nil {
		d.Encoding = *o.Encoding
	}
	sample, err := io.ReadAll(d.reader(bytes.NewReader(sample)))
	switch {
	case err != nil && !errors.Is(err, errHalfLetter): // which may be the end of the sample; else it is told when all is read
		return Guessed{}, &Error{0, fmt.Sprintf("The file cannot be read as %s.", d.Encoding)}
	case len(bytes.TrimSpace(bytes.TrimPrefix(sample, bom))) == 0:
		return Guessed{}, &Error{0, "The file is empty. Choose a file with one address a row."}
	}
	if err := noText(sample); err != nil {
		return Guessed{}, err
	}
	d.Quote = guessQuote(sample)
	if o.Quote != nil {
		d.Quote = *o.Quote
	}
	if o.Delimiter != nil {
		d.Delimiter = *o.Delimiter
	} else {
		d.Delimiter = guessDelimiter(sample, d.Quote)
	}
	g := Guessed{Dialect: d}
	return g, g.read(sample, o.Header)
}

// controlShare is which share of control characters, one in so many, a damaged
// text may have at most.
const controlShare = 200

// zeroShare is the same for zero bytes: programs leave them in texts, and they are kept.
const zeroShare = 4

// noText tells what is not text by the control characters in it.
func noText(sample []byte) error {
	if zeros := bytes.Count(sample, []byte{0}); zeros*zeroShare > len(sample) {
		line := int64(bytes.Count(sample[:bytes.IndexByte(sample, 0)], []byte("\n")) + 1)
		return &Error{line, fmt.Sprintf("%d of the first %d bytes are zero bytes, so this is not a text file. Save the list as CSV and import that.", zeros, len(sample))}
	}
	first, n := -1, 0
	for i, c := range sample {
		if c != 0 && c < ' ' && c != '\t' && c != '\n' && c != '\r' && c != '\f' {
			if n++; first < 0 {
				first = i
			}
		}
	}
	if n*controlShare <= len(sample) {
		return nil
	}
	line := int64(bytes.Count(sample[:first], []byte("\n")) + 1)
	return &Error{line, fmt.Sprintf("the control character %d stands here, so this is not a text file. Save the list as CSV and import that.", sample[first])}
}

func validUTF8(sample []byte) bool { return utf8.Valid(trimTail(sample)) }

// read fills in rows, header and address column.
func (g *Guessed) read(sample []byte, header *bool) error {
	r := NewReader(bytes.NewReader(sample), g.Dialect.Kept())
	for len(g.Rows) <= typedRows {
		rec, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil && len(g.Rows) <= previewRows {
			return err
		}
		if err != nil {
			break // what is wrong further down is told when all is read
		}
		if rec.Blank() {
			continue
		}
		cells := g.Dialect.Kept().Cells(rec.Raw)
		if len(cells) >= MaxColumns {
			return &Error{rec.Line, fmt.Sprintf("this record has %d cells or more, and no list has. Give the delimiter between cells, or remove what is not data.", MaxColumns)}
		}
		g.Rows = append(g.Rows, cells)
	}
	if len(g.Rows) == 0 {
		return &Error{0, "The file is empty. Choose a file with one address a row."}
	}
	g.Dialect.Header = !hasAddress(g.Rows[0]) && (len(g.Rows) > 1 || namesAddress(g.Rows[0]))
	if header != nil {
		g.Dialect.Header = *header
	}
	first := g.Rows[:min(len(g.Rows), previewRows+1)]
	g.AddressColumn, g.AlsoAddresses = addressColumns(first, g.Dialect.Header)
	g.Columns = columnNames(first, g.Dialect.Header)
	g.several = mostAddresses(g.Rows)
	if g.Dialect.Header {
		g.Rows = g.Rows[1:]
	}
	g.Kinds = kinds(g.Rows, len(g.Columns))
	g.Rows = g.Rows[:min(len(g.Rows), previewRows)]
	return nil
}

// mostAddresses counts, for each column, the addresses of the cell that holds most.
func mostAddresses(rows [][]string) (most []int) {
	for _, cells := range rows {
		for col, cell := range cells {
			for len(most) <= col {
				most = append(most, 1)
			}
			most[col] = max(most[col], len(address.Several(cell)))
		}
	}
	return most
}

// AddressColumns lists the columns that hold addresses, best first: that with the most,
// and others of the same name. A column whose cells hold several stands there as often as
// the cell with most of them needs, so that each is asked about.
func (g Guessed) AddressColumns() (columns []int) {
	if g.AddressColumn < 0 {
		return nil
	}
	columns = g.Slots(g.AddressColumn)
	for _, c := range g.AlsoAddresses {
		if strings.EqualFold(g.Columns[c], g.Columns[g.AddressColumn]) {
			columns = append(columns, g.Slots(c)...)
		}
	}
	return columns
}

// Slots is a column as often as it holds addresses in a cell.
func (g Guessed) Slots(column int) []int {
	n := 1
	if column >= 0 && column < len(g.several) {
		n = g.several[column]
	}
	return slices.Repeat([]int{column}, n)
}

// NoAddressColumn is the error for a table in which no column holds addresses.
func (g Guessed) NoAddressColumn() error {
	return &Error{0, fmt.Sprintf("No column of this file holds e-mail addresses (columns: %s). Name the column that should.",
		strings.Join(g.Columns[:min(len(g.Columns), 12)], ", "))}
}

// trimTail takes off a character that the end of the sample may have cut.
func trimTail(b []byte) []byte {
	for i := 1; i < utf8.UTFMax && i <= len(b); i++ {
		if utf8.RuneStart(b[len(b)-i]) {
			if !utf8.FullRune(b[len(b)-i:]) {
				return b[:len(b)-i]
			}
			break
		}
	}
	return b
}

// singleQuoted finds cells wrapped in single quotes.
var singleQuoted = regexp.MustCompile(`(?m)(^|[,;\t|])'[^'\r\n]*'([,;\t|\r]|$)`)

// guessQuote takes the single quote where no double one is there and every
// third line at least has a cell wrapped in it.
func guessQuote(sample []byte) string {
	if !bytes.ContainsRune(sample, '"') && len(singleQuoted.FindAllIndex(sample, -1))*3 >= bytes.Count(sample, []byte("\n")) && bytes.ContainsRune(sample, '\'') {
		return "'"
	}
	return `"`
}

// guessDelimiter takes the delimiter that splits the first records into the
// same number of cells most evenly, and into more than one.
func guessDelimiter(sample []byte, quote string) string {
	best, bestScore := "", 0
	for _, delimiter := range []string{",", ";", "\t", "|"} {
		d := Dialect{Delimiter: delimiter, Quote: quote}
		counts := map[int]int{}
		r := NewReader(bytes.NewReader(sample), d)
		for range 50 {
			rec, err := r.Next()
			if err != nil {
				break
			}
			if !rec.Blank() {
				counts[len(d.Cells(rec.Raw))]++
			}
		}
		for cells, records := range counts {
			if score := records*1000 + cells; cells > 1 && score > bestScore {
				best, bestScore = delimiter, score
			}
		}
	}
	return best
}

func hasAddress(cells []string) bool {
	for _, c := range cells {
		if _, err := address.Parse(c); err == nil {
			return true
		}
	}
	return false
}

// names are parts of the names that columns of addresses have, by language.
var names = strings.Fields(`e-mail email mail courriel correo adresse address adres indirizzo endereço posta почта メール 邮箱 이메일`)

func named(column string) int {
	column = strings.ToLower(strings.NewReplacer("_", "", " ", "").Replace(column))
	for i, n := range names {
		if strings.Contains(column, n) {
			return len(names) - i
		}
	}
	return 0
}

func namesAddress(cells []string) bool {
	for _, c := range cells {
		if named(c) > 0 {
			return true
		}
	}
	return false
}

// addressColumns takes the column with the most addresses in it; among equals
// the one whose name says so, then the leftmost. Where no cell holds an
// address, the name alone must say so plainly. Others are those of whose filled
// cells half or more hold addresses.
func addressColumns(rows [][]string, header bool) (best int, others []int) {
	best, bestScore := -1, 0
	for col := range rows[0] {
		filled, found := 0, 0
		for i, cells := range rows {
			if col >= len(cells) || header && i == 0 || strings.TrimSpace(cells[col]) == "" {
				continue
			}
			filled++
			if _, err := address.Parse(cells[col]); err == nil || address.Several(cells[col]) != nil {
				found++
			}
		}
		score := 100 * found
		if header && (score > 0 || named(rows[0][col]) > len(names)-4) {
			score += named(rows[0][col])
		}
		if score > bestScore {
			best, bestScore = col, score
		}
		if found > 0 && found*2 >= filled {
			others = append(others, col)
		}
	}
	return best, slices.DeleteFunc(others, func(c int) bool { return c == best })
}

func kinds(rows [][]string, columns int) []Kind {
	out, cells := make([]Kind, columns), make([]string, 0, len(rows))
	for col := range out {
		cells = cells[:0]
		for _, r := range rows {
			if col < len(r) {
				cells = append(cells, r[col])
			}
		}
		out[col] = KindOf(cells)
	}
	return out
}

func columnNames(rows [][]string, header bool) []string {
	widest := 0
	for _, cells := range rows {
		widest = max(widest, len(cells))
	}
	out := make([]string, widest)
	for i := range out {
		if header && i < len(rows[0]) {
			out[i] = strings.TrimSpace(strings.ReplaceAll(rows[0][i], "\x00", "\ufffd"))
		}
		if out[i] == "" {
			out[i] = fmt.Sprintf("column %d", i+1)
		}
	}
	return out
}
