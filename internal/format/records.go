package format

import (
	"bufio"
	"encoding/base64"
	"errors"
	"io"
	"mime/quotedprintable"
	"strings"

	"varnet/core/sheet"
)

// records reads a file of records with named values. Which names there are is
// known only at its end, so it is read twice. What a record says several times stands in
// one cell.
func (t *Table) records(in io.Reader, k Kind, read func(*bufio.Reader) ([]field, error)) error {
	f, _, err := t.spool(in, maxSheet)
	if err != nil {
		return err
	}
	var c columns
	err = each(f, read, func(record []field) error {
		for _, x := range record {
			if err := c.add(x.name); err != nil {
				return wrong("The %s file has %v different fields. Remove what is not data.", k, err)
			}
		}
		return nil
	})
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	head, again := c.names, bufio.NewReader(f)
	t.rows(k, func() ([]string, error) {
		if head != nil {
			names := head
			head = nil
			return names, nil
		}
		record, err := read(again)
		if errors.Is(err, io.EOF) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		return c.row(record), nil
	})
	return nil
}

func each(f io.Reader, read func(*bufio.Reader) ([]field, error), do func([]field) error) error {
	in := bufio.NewReader(f)
	for {
		record, err := read(in)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = do(record)
		}
		if err != nil {
			return err
		}
	}
}

// unfolded reads a line with those that continue it: they begin with a space
// or tab (RFC 6350 section 3.2, RFC 2849 note 2).
func unfolded(in *bufio.Reader) (string, error) {
	text, err := line(in)
	if err != nil {
		return "", err
	}
	var whole strings.Builder
	whole.WriteString(strings.TrimRight(text, "\r\n"))
	for whole.Len() <= sheet.MaxRecord {
		next, err := in.Peek(1)
		if err != nil || next[0] != ' ' && next[0] != '\t' {
			return strings.ToValidUTF8(whole.String(), "\ufffd"), nil
		}
		more, err := line(in)
		if err != nil {
			return "", err
		}
		whole.WriteString(strings.TrimRight(more, "\r\n")[1:])
	}
	return "", tooLong()
}

// pictures are the properties of a card that are not text.
var pictures = map[string]bool{"PHOTO": true, "LOGO": true, "SOUND": true, "KEY": true}

// cardName is what a property of a card is called as a column: those without a name of
// ours keep theirs.
func cardName(property string) string {
	if name := cardNames[property]; name != "" {
		return name
	}
	return property
}

// cardNames are what the properties of a card are called as columns.
var cardNames = map[string]string{"EMAIL": "E-mail", "FN": "Name", "ORG": "Organisation", "TITLE": "Title", "TEL": "Telephone",
	"NOTE": "Note", "BDAY": "Birthday", "CATEGORIES": "Categories", "URL": "Web page", "ADR": "Postal address", "NICKNAME": "Nickname", "ROLE": "Role"}

// readCard reads one card (RFC 6350, and the older ones of the same shape).
func readCard(in *bufio.Reader) (record []field, err error) {
	inside := false
	for {
		line, err := unfolded(in)
		if err != nil {
			if inside {
				return record, nil // the last card is cut short: what is there counts
			}
			return nil, err
		}
		head, value, ok := strings.Cut(line, ":")
		params := strings.Split(head, ";")
		name := strings.ToUpper(params[0])
		if _, group, grouped := strings.Cut(name, "."); grouped {
			name = group
		}
		switch {
		case !ok:
		case name == "BEGIN":
			inside = true
		case name == "END":
			return record, nil
		case name == "VERSION" || pictures[name] || strings.TrimSpace(value) == "":
		default:
			record = append(record, field{cardName(name), cardValue(in, params[1:], value)})
		}
	}
}

func cardValue(in *bufio.Reader, params []string, value string) string {
	for _, p := range params {
		if strings.EqualFold(p, "ENCODING=QUOTED-PRINTABLE") || strings.EqualFold(p, "QUOTED-PRINTABLE") {
			value = softLines(in, value)
			if text, err := io.ReadAll(quotedprintable.NewReader(strings.NewReader(value))); err == nil {
				value = string(text)
			}
			value = strings.ToValidUTF8(value, "\ufffd")
		}
	}
	value = strings.NewReplacer(`\n`, "\n", `\N`, "\n", `\,`, ",", `\;`, ";", `\\`, `\`).Replace(value)
	return strings.Trim(strings.ReplaceAll(value, ";;", ";"), "; ")
}

// softLines reads a value on, which in vCard 2.1 goes on in the next line where one ends in
// "=" (RFC 2045, section 6.7).
func softLines(in *bufio.Reader, value string) string {
	var whole strings.Builder
	for strings.HasSuffix(value, "=") && whole.Len() <= sheet.MaxRecord {
		whole.WriteString(strings.TrimSuffix(value, "="))
		more, err := line(in)
		if value = strings.TrimRight(more, "\r\n"); err != nil {
			break
		}
	}
	whole.WriteString(value)
	return whole.String()
}

// readEntry reads one entry of a directory (RFC 2849).
func readEntry(in *bufio.Reader) (record []field, err error) {
	for {
		line, err := unfolded(in)
		if err != nil {
			if len(record) > 0 {
				return record, nil
			}
			return nil, err
		}
		if line == "" {
			if len(record) > 0 {
				return record, nil
			}
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok || name == "" || name[0] == '#' || strings.EqualFold(name, "version") {
			continue
		}
		if encoded, ok := strings.CutPrefix(value, ":"); ok {
			raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(encoded))
			if err != nil {
				return nil, wrong("The value of %q in the LDIF file is not the base64 it says it is. Write the file again.", name)
			}
			value = strings.ToValidUTF8(string(raw), "\ufffd")
		}
		record = append(record, field{name, strings.TrimSpace(value)})
	}
}
