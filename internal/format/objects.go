package format

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// objects reads JSON objects: an array of them, or one a line. It is read as
// records are.
func (t *Table) objects(in io.Reader, k Kind) error {
	d := &objectReader{array: k == JSON}
	return t.records(in, k, func(r *bufio.Reader) ([]field, error) { return d.read(r) })
}

// objectReader reads one object after the other. A new bufio.Reader begins a
// new pass.
type objectReader struct {
	array   bool
	from    *bufio.Reader
	decoder *json.Decoder
	budget  *budget
	n       int
}

// maxObject bounds one object: a decoder holds it in memory.
const maxObject = 8 << 20

// budget fails when too much is read for one object.
type budget struct {
	r    io.Reader
	left int
}

func (b *budget) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, fmt.Errorf("it is larger than %d MB", maxObject>>20)
	}
	n, err := b.r.Read(p)
	b.left -= n
	return n, err
}

func (o *objectReader) read(in *bufio.Reader) ([]field, error) {
	if o.from != in {
		if mark, err := in.Peek(3); err == nil && string(mark) == "\xef\xbb\xbf" {
			_, _ = in.Discard(3)
		}
		o.budget = &budget{r: in, left: maxObject}
		o.from, o.decoder, o.n = in, json.NewDecoder(o.budget), 0
		o.decoder.UseNumber()
		if o.array {
			if _, err := o.decoder.Token(); err != nil {
				return nil, damaged(JSON)
			}
		}
	}
	if !o.decoder.More() {
		if _, err := o.decoder.Token(); o.array && err != nil {
			return nil, wrong("The JSON array is not closed after its entry %d; the file is cut short. Write it again.", o.n)
		}
		return nil, io.EOF
	}
	o.n++
	o.budget.left = maxObject
	record, err := o.object()
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return nil, wrong("The JSON file is cut short in its entry %d. Write it again.", o.n)
	case err != nil:
		return nil, wrong("Entry %d of the JSON file is not an object with names and values (%v). Write one object for each row.", o.n, err)
	}
	return record, nil
}

// object keeps the order of the names, which a map would lose.
func (o *objectReader) object() (record []field, err error) {
	open, err := o.decoder.Token()
	if err != nil {
		return nil, err
	}
	if open != json.Delim('{') {
		return nil, fmt.Errorf("%v", open)
	}
	for o.decoder.More() {
		name, err := o.decoder.Token()
		if err != nil {
			return nil, err
		}
		var value json.RawMessage
		if err := o.decoder.Decode(&value); err != nil {
			return nil, err
		}
		record = append(record, field{fmt.Sprint(name), shown(value)})
	}
	_, err = o.decoder.Token()
	return record, err
}

// shown is a value as a cell: texts without their quotes, nothing for null,
// what is nested as it stands.
func shown(value json.RawMessage) string {
	var text string
	switch {
	case string(value) == "null":
		return ""
	case json.Unmarshal(value, &text) == nil:
		return text
	}
	return strings.Join(strings.Fields(strings.ToValidUTF8(string(value), "\ufffd")), " ")
}
