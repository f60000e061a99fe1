package format

import (
	"archive/zip"
	"bufio"
	"encoding/xml"
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"
)

// Names of OpenDocument 1.3 part 3.
const (
	nsTable  = "urn:oasis:names:tc:opendocument:xmlns:table:1.0"
	nsText   = "urn:oasis:names:tc:opendocument:xmlns:text:1.0"
	nsOffice = "urn:oasis:names:tc:opendocument:xmlns:office:1.0"
)

// ods reads one sheet of an OpenDocument spreadsheet: values as they are shown.
func (t *Table) ods(content, manifest *zip.File, o Options) error {
	if manifest != nil && holds(manifest, "encryption-data") {
		return protected()
	}
	names, err := odsSheets(content)
	if err != nil {
		return err
	}
	return t.sheets(ODS, names, o, func(name string) (func() ([]string, error), error) {
		r, err := content.Open()
		if err != nil {
			return nil, damaged(ODS)
		}
		t.closers = append(t.closers, func() { _ = r.Close() })
		s := &odsReader{markup: newMarkup(r, ODS)}
		return s.next, s.goTo(name)
	})
}

// holds reports whether a small member has a text in it.
func holds(m *zip.File, text string) bool {
	r, err := m.Open()
	if err != nil {
		return false
	}
	defer r.Close()
	b, _ := io.ReadAll(io.LimitReader(r, 1<<20))
	return strings.Contains(string(b), text)
}

// odsSheets returns the names of the sheets. It looks for their tags alone: reading everything
// twice as XML would take twice the time.
func odsSheets(content *zip.File) (names []string, err error) {
	r, err := content.Open()
	if err != nil {
		return nil, damaged(ODS)
	}
	defer r.Close()
	in := bufio.NewReaderSize(bounded(r, "spreadsheet"), 64<<10)
	for {
		switch _, err := in.ReadSlice('<'); {
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case errors.Is(err, io.EOF):
			return names, nil
		case err != nil:
			return nil, err
		}
		if begins, _ := in.Peek(64); !tableTag.Match(begins) {
			continue
		}
		tag, err := in.ReadString('>')
		if err != nil {
			return nil, damaged(ODS)
		}
		start, err := xml.NewDecoder(strings.NewReader("<" + tag)).RawToken()
		if e, ok := start.(xml.StartElement); ok && err == nil {
			names = append(names, attribute(e, e.Name.Space, "name"))
		}
	}
}

// tableTag is how the tag of a sheet begins, whatever its prefix.
var tableTag = regexp.MustCompile(`^([\w.-]+:)?table[\s/>]`)

type odsReader struct {
	*markup
	// again is how often the last row comes again; blank counts empty rows
	// that count only when something follows.
	row   []string
	again int
	blank int
	ended bool
}

// element goes to the next start of an element.
func (s *odsReader) element(space, name string) (xml.StartElement, error) {
	for {
		tok, err := s.token()
		if err != nil {
			return xml.StartElement{}, err
		}
		if start, ok := tok.(xml.StartElement); ok && start.Name.Space == space && start.Name.Local == name {
			return start, nil
		}
	}
}

func attribute(e xml.StartElement, space, name string) string {
	for _, a := range e.Attr {
		if a.Name.Space == space && a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

func repeated(e xml.StartElement, name string) int {
	n, err := strconv.Atoi(attribute(e, nsTable, name))
	if err != nil || n < 1 {
		return 1
	}
	return n
}

func (s *odsReader) goTo(name string) error {
	for {
		start, err := s.element(nsTable, "table")
		if err != nil {
			return tooSoon(err, ODS)
		}
		if attribute(start, nsTable, "name") == name {
			return nil
		}
	}
}

// next returns the next row; spreadsheets end in a million empty ones, which are
// left out.
func (s *odsReader) next() ([]string, error) {
	for {
		switch {
		case s.row != nil && s.blank > 0:
			s.blank--
			return []string{}, nil
		case s.row != nil && s.again > 0:
			s.again--
			return s.row, nil
		case s.ended:
			return nil, nil
		}
		if err := s.readRow(); err != nil {
			return nil, err
		}
	}
}

// maxBlank is how many empty rows may stand between two with something in them.
const maxBlank = 10_000

func (s *odsReader) readRow() error {
	for {
		tok, err := s.token()
		if err != nil {
			return tooSoon(err, ODS)
		}
		switch e := tok.(type) {
		case xml.EndElement:
			if e.Name.Space == nsTable && e.Name.Local == "table" {
				s.ended, s.row = true, nil
				return nil
			}
		case xml.StartElement:
			if e.Name.Space != nsTable || e.Name.Local != "table-row" {
				continue
			}
			times := repeated(e, "number-rows-repeated")
			cells, err := s.cells()
			if err != nil {
				return err
			}
			if len(cells) == 0 {
				s.row = nil
				s.blank = min(s.blank+times, maxBlank)
				return nil
			}
			s.row, s.again = cells, min(times, 1_048_576)
			return nil
		}
	}
}

// cells reads the cells of a row; empty ones at its end are left out.
func (s *odsReader) cells() (cells []string, err error) {
	empty := 0
	for {
		tok, err := s.token()
		if err != nil {
			return nil, tooSoon(err, ODS)
		}
		switch e := tok.(type) {
		case xml.EndElement:
			if e.Name.Space == nsTable && e.Name.Local == "table-row" {
				return cells, nil
			}
		case xml.StartElement:
			if e.Name.Space != nsTable || e.Name.Local != "table-cell" && e.Name.Local != "covered-table-cell" {
				continue
			}
			times := repeated(e, "number-columns-repeated")
			text, err := s.text(e)
			if err != nil {
				return nil, err
			}
			if text == "" {
				empty += times
				continue
			}
			if len(cells)+empty+times > maxColumns {
				return nil, wrong("The spreadsheet has more than %d columns. Remove what is not data.", maxColumns)
			}
			cells = append(cells, make([]string, empty)...)
			empty = 0
			for range times {
				cells = append(cells, text)
			}
		}
	}
}

// text returns what a cell shows: its paragraphs, one a line.
func (s *odsReader) text(cell xml.StartElement) (string, error) {
	var out strings.Builder
	paragraphs, depth, inText := 0, 1, 0
	for depth > 0 {
		tok, err := s.token()
		if err != nil {
			return "", tooSoon(err, ODS)
		}
		switch e := tok.(type) {
		case xml.StartElement:
			depth++
			switch {
			case e.Name.Space == nsOffice && e.Name.Local == "annotation":
				if err := s.Skip(); err != nil { // a note on the cell
					return "", damaged(ODS)
				}
				depth--
			case e.Name.Space == nsText && e.Name.Local == "p":
				if paragraphs++; paragraphs > 1 {
					out.WriteByte('\n')
				}
				inText++
			case e.Name.Space == nsText && e.Name.Local == "s" && inText > 0:
				n, _ := strconv.Atoi(attribute(e, nsText, "c"))
				out.WriteString(strings.Repeat(" ", min(max(1, n), 1000)))
			case e.Name.Space == nsText && e.Name.Local == "tab" && inText > 0:
				out.WriteByte('\t')
			}
		case xml.EndElement:
			depth--
			if e.Name.Space == nsText && e.Name.Local == "p" {
				inText--
			}
		case xml.CharData:
			if inText > 0 {
				out.Write(e)
			}
		}
		if out.Len() > maxCell {
			return "", largeCell()
		}
	}
	return out.String(), nil
}
