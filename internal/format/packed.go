package format

import (
	"archive/zip"
	"io"
	"path"
	"strings"
)

// zipped tells spreadsheets from zip files that hold one.
func (t *Table) zipped(in io.Reader, o Options, depth int) error {
	f, size, err := t.spool(in, maxSheet)
	if err != nil {
		return err
	}
	z, err := zip.NewReader(f, size)
	if err != nil {
		return wrong("The file begins like a zip file or a spreadsheet and is damaged or cut short. Save it again where it was made, and import that.")
	}
	members := map[string]*zip.File{}
	var files []*zip.File
	for _, m := range z.File {
		members[m.Name] = m
		if !m.FileInfo().IsDir() && !strings.HasPrefix(m.Name, "__MACOSX/") && !strings.HasPrefix(path.Base(m.Name), ".") {
			files = append(files, m)
		}
	}
	switch {
	case members["xl/workbook.xml"] != nil:
		return t.xlsx(members, o)
	case members["content.xml"] != nil && members["mimetype"] != nil:
		return t.ods(members["content.xml"], members["META-INF/manifest.xml"], o)
	case members["[Content_Types].xml"] != nil, members["mimetype"] != nil:
		return wrong("This is a document and no table. Copy the list into a spreadsheet or a text file, and import that.")
	case len(files) == 0:
		return wrong("The zip file holds no file.")
	case len(files) > 1:
		return wrong("The zip file holds %d files (%s). Import them one by one.", len(files), names(files))
	}
	m := files[0]
	if m.Flags&1 != 0 {
		return wrong("The file %s in the zip file is protected by a password. Unpack it, and import what is in it.", m.Name)
	}
	if m.UncompressedSize64 > MaxUnpacked {
		return wrong("The file %s in the zip file has %d GB unpacked, and at most %d are taken. Split it into smaller ones.", m.Name, m.UncompressedSize64>>30, MaxUnpacked>>30)
	}
	r, err := m.Open()
	if err != nil {
		return wrong("The file %s in the zip file cannot be unpacked (%v). Unpack it, and import what is in it.", m.Name, err)
	}
	t.closers = append(t.closers, func() { _ = r.Close() })
	t.Packed = path.Base(m.Name) + " in a zip file"
	return t.open(bounded(r, "zip file"), o, depth+1)
}

// names lists some of the files.
func names(files []*zip.File) string {
	var out []string
	for _, f := range files[:min(len(files), 4)] {
		out = append(out, f.Name)
	}
	if len(files) > 4 {
		out = append(out, "…")
	}
	return strings.Join(out, ", ")
}

func protected() error {
	return wrong("The spreadsheet is protected by a password. Open it, save it without one, and import that.")
}
