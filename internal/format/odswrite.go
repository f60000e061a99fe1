package format

import (
	"archive/zip"
	"bufio"
	"encoding/xml"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// The parts of an OpenDocument spreadsheet (OpenDocument 1.3, part 3) around
// its rows.
const (
	odsType     = "application/vnd.oasis.opendocument.spreadsheet"
	odsManifest = `<?xml version="1.0" encoding="UTF-8"?>
<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" manifest:version="1.3">
<manifest:file-entry manifest:full-path="/" manifest:media-type="` + odsType + `"/>
<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/>
</manifest:manifest>`
	odsBefore = `<?xml version="1.0" encoding="UTF-8"?>
<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" xmlns:style="urn:oasis:names:tc:opendocument:xmlns:style:1.0" xmlns:fo="urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0" xmlns:number="urn:oasis:names:tc:opendocument:xmlns:datastyle:1.0" office:version="1.3">
<office:automatic-styles><number:date-style style:name="D"><number:year number:style="long"/><number:text>-</number:text><number:month number:style="long"/><number:text>-</number:text><number:day number:style="long"/></number:date-style>
<style:style style:name="day" style:family="table-cell" style:data-style-name="D"/>
<number:date-style style:name="T"><number:year number:style="long"/><number:text>-</number:text><number:month number:style="long"/><number:text>-</number:text><number:day number:style="long"/><number:text> </number:text><number:hours number:style="long"/><number:text>:</number:text><number:minutes number:style="long"/></number:date-style>
<style:style style:name="moment" style:family="table-cell" style:data-style-name="T"/>
<style:style style:name="head" style:family="table-cell"><style:text-properties fo:font-weight="bold"/></style:style></office:automatic-styles>
<office:body><office:spreadsheet><table:table table:name="List">`
	odsAfter = `</table:table></office:spreadsheet></office:body></office:document-content>`
)

// odsBook writes an OpenDocument spreadsheet as its rows come.
type odsBook struct {
	zip     *zip.Writer
	w       *bufio.Writer
	columns []Column
}

func newODS(out io.Writer, columns []Column) (*odsBook, error) {
	z := zip.NewWriter(out)
	// The type stands first and unpacked, so that a file tells by its first
	// bytes what it is.
	kind, err := z.CreateHeader(&zip.FileHeader{Name: "mimetype", Method: zip.Store})
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(kind, odsType); err != nil {
		return nil, err
	}
	manifest, err := z.Create("META-INF/manifest.xml")
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(manifest, odsManifest); err != nil {
		return nil, err
	}
	content, err := z.Create("content.xml")
	if err != nil {
		return nil, err
	}
	b := &odsBook{zip: z, w: bufio.NewWriter(content), columns: columns}
	_, err = b.w.WriteString(odsBefore)
	if err != nil {
		return nil, err
	}
	return b, b.row(columnNames(columns), func(_ int, name string) { b.cell(`table:style-name="head" office:value-type="string"`, name) })
}

func (b *odsBook) row(cells []string, write func(i int, cell string)) error {
	_, _ = b.w.WriteString("<table:table-row>")
	for i, c := range cells {
		write(i, c)
	}
	_, err := b.w.WriteString("</table:table-row>\n") // tells an error of the writes before it
	return err
}

func (b *odsBook) cell(attributes, text string) {
	_, _ = b.w.WriteString("<table:table-cell " + attributes + "><text:p>")
	for i := 0; i < len(text); {
		n := len(text[i:]) - len(strings.TrimLeft(text[i:], " "))
		switch {
		case n > 0: // several spaces would be read as one
			_, _ = fmt.Fprintf(b.w, `<text:s text:c="%d"/>`, n)
			i += n
		case text[i] == '\t':
			_, _ = b.w.WriteString("<text:tab/>")
			i++
		case text[i] == '\n':
			_, _ = b.w.WriteString("</text:p><text:p>")
			i++
		default:
			n = len(text[i:])
			if next := strings.IndexAny(text[i:], " \t\n"); next > 0 {
				n = next
			}
			_ = xml.EscapeText(b.w, []byte(text[i:i+n])) // what XML cannot hold becomes U+FFFD
			i += n
		}
	}
	_, _ = b.w.WriteString("</text:p></table:table-cell>")
}

// Write writes dates and numbers as such, and every other cell as text.
func (b *odsBook) Write(row []string) error {
	values := values(b.columns, row)
	return b.row(row, func(i int, cell string) {
		switch v := values[i].(type) {
		case float64:
			b.cell(`office:value-type="float" office:value="`+strconv.FormatFloat(v, 'f', -1, 64)+`"`, cell)
		case time.Time:
			style, at := "moment", v.Format("2006-01-02T15:04:05")
			if b.columns[i].dateOnly() {
				style, at = "day", v.Format(time.DateOnly)
			}
			b.cell(`table:style-name="`+style+`" office:value-type="date" office:date-value="`+at+`"`, cell)
		default:
			b.cell(`office:value-type="string"`, cell)
		}
	})
}

func (b *odsBook) Close() error {
	if _, err := b.w.WriteString(odsAfter); err != nil {
		return err
	}
	if err := b.w.Flush(); err != nil {
		return err
	}
	return b.zip.Close()
}
