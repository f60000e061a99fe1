package format

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"

	"golang.org/x/net/html/charset"
)

// markup reads the XML of a spreadsheet. A document type, with which entities could be
// declared, is not part of any of them.
type markup struct {
	*xml.Decoder
	kind Kind
}

func newMarkup(r io.Reader, k Kind) *markup {
	d := xml.NewDecoder(bounded(r, "spreadsheet"))
	d.CharsetReader = charset.NewReaderLabel
	return &markup{d, k}
}

// token returns the next piece; io.EOF after the last.
func (m *markup) token() (xml.Token, error) {
	tok, err := m.Token()
	switch {
	case errors.Is(err, io.EOF):
		return nil, io.EOF
	case err != nil:
		return nil, damaged(m.kind)
	}
	if d, ok := tok.(xml.Directive); ok && strings.HasPrefix(string(d), "DOCTYPE") {
		return nil, wrong("The spreadsheet declares a document type, which no spreadsheet program does. Save it again with one.")
	}
	return tok, nil
}

// tooSoon is what is wrong where a file ends in the midst of something.
func tooSoon(err error, k Kind) error {
	if errors.Is(err, io.EOF) {
		return damaged(k)
	}
	return err
}

// local returns an attribute by its name alone, whatever its space.
func local(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}
