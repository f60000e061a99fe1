package format

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"io"
	"path"
	"regexp"
	"strconv"
	"strings"
)

// The parts of a workbook (ECMA-376, part 1) that are read: the book, its relations, its styles
// and texts, and the sheets. Of a formula the value counts that was computed last.

// maxXLSXPart is how large a part may be that is read at once, in bytes.
const maxXLSXPart = 16 << 20

// xlsxBook is what holds for all sheets of a workbook.
type xlsxBook struct {
	numberFormats
	members map[string]*zip.File
	names   []string          // of the sheets
	parts   map[string]string // the member of each
	shared  string            // the member of the texts
	texts   *xlsxTexts        // once one is wanted
}

// xlsx reads one sheet of an XLSX workbook: values as they are shown.
func (t *Table) xlsx(members map[string]*zip.File, o Options) error {
	b, err := openXLSX(members)
	if err != nil {
		return err
	}
	return t.sheets(XLSX, b.names, o, func(name string) (func() ([]string, error), error) {
		m := members[b.parts[name]]
		if m == nil {
			return nil, damaged(XLSX)
		}
		r, err := m.Open()
		if err != nil {
			return nil, damaged(XLSX)
		}
		t.closers = append(t.closers, func() { _ = r.Close() })
		return (&xlsxSheet{markup: newMarkup(r, XLSX), book: b}).next, nil
	})
}

func openXLSX(members map[string]*zip.File) (*xlsxBook, error) {
	b := &xlsxBook{members: members, parts: map[string]string{}, numberFormats: numberFormats{own: map[uint16]string{}}}
	var book struct {
		Properties struct {
			Date1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Sheets []struct {
			Name     string `xml:"name,attr"`
			Relation string `xml:"id,attr"`
		} `xml:"sheets>sheet"`
	}
	var relations struct {
		All []struct {
			ID     string `xml:"Id,attr"`
			Type   string `xml:"Type,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	const folder = "xl"
	if err := b.part("xl/workbook.xml", &book); err != nil {
		return nil, err
	}
	if err := b.part("xl/_rels/workbook.xml.rels", &relations); err != nil {
		return nil, err
	}
	at, styles := map[string]string{}, ""
	for _, r := range relations.All {
		target := path.Join(folder, r.Target)
		if strings.HasPrefix(r.Target, "/") {
			target = strings.TrimPrefix(r.Target, "/")
		}
		switch at[r.ID] = target; path.Base(r.Type) {
		case "sharedStrings":
			b.shared = target
		case "styles":
			styles = target
		}
	}
	for _, s := range book.Sheets {
		b.names, b.parts[s.Name] = append(b.names, s.Name), at[s.Relation]
	}
	b.since04 = yes(book.Properties.Date1904)
	return b, b.readStyles(styles)
}

func yes(value string) bool { return value == "1" || value == "true" }

// part reads a small part whole; one that is not there is empty, but for the book itself.
func (b *xlsxBook) part(name string, into any) error {
	m := b.members[name]
	if m == nil {
		return damaged(XLSX)
	}
	r, err := m.Open()
	if err != nil {
		return damaged(XLSX)
	}
	defer r.Close()
	d := newMarkup(io.LimitReader(r, maxXLSXPart), XLSX)
	if err := d.Decode(into); err != nil {
		return damaged(XLSX)
	}
	return nil
}

func (b *xlsxBook) readStyles(name string) error {
	if b.members[name] == nil {
		return nil // all numbers are plain
	}
	var styles struct {
		Formats []struct {
			Number uint16 `xml:"numFmtId,attr"`
			Code   string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Cells []struct {
			Format uint16 `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := b.part(name, &styles); err != nil {
		return err
	}
	for _, f := range styles.Formats {
		b.own[f.Number] = f.Code
	}
	for _, c := range styles.Cells {
		b.styles = append(b.styles, c.Format)
	}
	return nil
}

// xlsxTexts are the texts that cells share, one after the other.
type xlsxTexts struct {
	bytes []byte
	ends  []uint32
}

func (t *xlsxTexts) text(n int) (string, bool) {
	if n < 0 || n >= len(t.ends) {
		return "", false
	}
	from := uint32(0)
	if n > 0 {
		from = t.ends[n-1]
	}
	return string(t.bytes[from:t.ends[n]]), true
}

// text returns a shared text, and reads all of them for the first.
func (b *xlsxBook) text(n int) (string, error) {
	if b.texts == nil {
		if err := b.readTexts(); err != nil {
			return "", err
		}
	}
	text, ok := b.texts.text(n)
	if !ok {
		return "", damaged(XLSX)
	}
	return text, nil
}

func (b *xlsxBook) readTexts() error {
	b.texts = &xlsxTexts{}
	m := b.members[b.shared]
	if m == nil {
		return damaged(XLSX)
	}
	r, err := m.Open()
	if err != nil {
		return damaged(XLSX)
	}
	defer r.Close()
	for d := newMarkup(r, XLSX); ; {
		tok, err := d.token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if start, ok := tok.(xml.StartElement); ok && start.Name.Local == "si" {
			text, err := d.richText("si")
			if err != nil {
				return err
			}
			b.texts.bytes = append(b.texts.bytes, text...)
			b.texts.ends = append(b.texts.ends, uint32(len(b.texts.bytes)))
		}
	}
}

// richText reads the text of an element to its end: its runs one after the other, without how
// they are read aloud (18.4.6).
func (m *markup) richText(end string) (string, error) {
	var out strings.Builder
	inText := false
	for {
		tok, err := m.token()
		if err != nil {
			return "", tooSoon(err, m.kind)
		}
		switch e := tok.(type) {
		case xml.StartElement:
			if inText = e.Name.Local == "t"; e.Name.Local == "rPh" {
				if err := m.Skip(); err != nil {
					return "", damaged(m.kind)
				}
			}
		case xml.EndElement:
			if inText = false; e.Name.Local == end {
				return unescaped(out.String()), nil
			}
		case xml.CharData:
			if inText {
				out.Write(e)
			}
		}
		if out.Len() > maxCell {
			return "", largeCell()
		}
	}
}

// escaped is a character that XML cannot hold (22.4.2.4).
var escaped = regexp.MustCompile(`_x([0-9A-Fa-f]{4})_`)

func unescaped(text string) string {
	if !strings.Contains(text, "_x") {
		return text
	}
	return escaped.ReplaceAllStringFunc(text, func(code string) string {
		n, _ := strconv.ParseUint(code[2:6], 16, 16)
		return string(rune(n))
	})
}

// xlsxSheet reads the rows of a sheet.
type xlsxSheet struct {
	*markup
	book    *xlsxBook
	at      int // number of the row given last
	row     []string
	rowAt   int // its number, once it is read
	waiting bool
	ended   bool
}

// next returns the next row; one that is left out in the file is empty.
func (s *xlsxSheet) next() ([]string, error) {
	if !s.waiting && !s.ended {
		if err := s.readRow(); err != nil {
			return nil, err
		}
	}
	switch {
	case s.ended:
		return nil, nil
	case s.at+1 < s.rowAt:
		s.at++
		return []string{}, nil
	}
	s.at, s.waiting = s.rowAt, false
	return s.row, nil
}

func (s *xlsxSheet) readRow() error {
	for {
		tok, err := s.token()
		if errors.Is(err, io.EOF) { // a chart, which has no rows
			s.ended = true
			return nil
		}
		if err != nil {
			return err
		}
		switch e := tok.(type) {
		case xml.EndElement:
			if e.Name.Local == "sheetData" {
				s.ended = true
				return nil
			}
		case xml.StartElement:
			if e.Name.Local != "row" {
				continue
			}
			s.waiting, s.rowAt = true, s.at+1
			if n, err := strconv.Atoi(local(e, "r")); err == nil && n > s.at {
				s.rowAt = n
			}
			s.at = max(s.at, s.rowAt-maxBlank-1)
			s.row, err = s.cells()
			return err
		}
	}
}

// cells reads the cells of a row; empty ones at its end are left out.
func (s *xlsxSheet) cells() ([]string, error) {
	cells := []string{}
	for column := 0; ; column++ {
		tok, err := s.token()
		if err != nil {
			return nil, tooSoon(err, XLSX)
		}
		switch e := tok.(type) {
		case xml.EndElement:
			if e.Name.Local == "row" {
				return cells, nil
			}
			column--
		case xml.StartElement:
			if e.Name.Local != "c" {
				column--
				continue
			}
			if n, ok := columnOf(local(e, "r")); ok {
				column = n
			}
			text, err := s.value(e)
			if err != nil {
				return nil, err
			}
			if text == "" {
				continue
			}
			if column >= maxColumns {
				return nil, tooWide(s.rowAt, column+1)
			}
			for len(cells) <= column {
				cells = append(cells, "")
			}
			cells[column] = text
		default:
			column--
		}
	}
}

// columnOf reads the column of a reference such as AB12, from 0.
func columnOf(reference string) (n int, ok bool) {
	for i := 0; i < len(reference) && i < 4; i++ {
		c := reference[i]
		if c < 'A' || c > 'Z' {
			break
		}
		n, ok = n*26+int(c-'A')+1, true
	}
	return n - 1, ok
}

// value reads a cell as it is shown (18.3.1.4).
func (s *xlsxSheet) value(cell xml.StartElement) (string, error) {
	kind, style := local(cell, "t"), 0
	if text := local(cell, "s"); text != "" {
		style, _ = strconv.Atoi(text)
	}
	var raw strings.Builder
	inValue := false
	for {
		tok, err := s.token()
		if err != nil {
			return "", tooSoon(err, XLSX)
		}
		switch e := tok.(type) {
		case xml.StartElement:
			if inValue = e.Name.Local == "v"; e.Name.Local == "is" {
				text, err := s.richText("is")
				if err != nil {
					return "", err
				}
				raw.WriteString(text)
			}
		case xml.EndElement:
			if inValue = false; e.Name.Local == "c" {
				return s.book.shownAs(kind, raw.String(), style)
			}
		case xml.CharData:
			if inValue {
				raw.Write(e)
			}
		}
		if raw.Len() > maxCell {
			return "", largeCell()
		}
	}
}

// shownAs is what a cell of a kind shows of its value.
func (b *xlsxBook) shownAs(kind, raw string, style int) (string, error) {
	switch kind {
	case "s":
		n, err := strconv.Atoi(strings.TrimSpace(raw))
		if err != nil {
			return "", nil
		}
		return b.text(n)
	case "b":
		if raw == "" {
			return "", nil
		}
		return map[bool]string{true: "TRUE", false: "FALSE"}[yes(raw)], nil
	case "str":
		return unescaped(raw), nil
	case "", "n":
		v, err := strconv.ParseFloat(raw, 64)
		if err != nil {
			return raw, nil
		}
		return b.shown(v, style), nil
	}
	return raw, nil // inlineStr, e, d
}
