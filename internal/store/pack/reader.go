package pack

import (
	"encoding/binary"
	"fmt"
)

func appendText(to []byte, text string) []byte {
	return append(binary.AppendUvarint(to, uint64(len(text))), text...)
}

// newReader reads the version of a packed value, which must be the one it is given.
func newReader(packed []byte, version byte) (reader, error) {
	r := reader{rest: packed, all: string(packed)}
	if has := r.octet(); r.broken || has != version {
		return r, fmt.Errorf("it is packed in version %d, and this release reads version %d; start the release that wrote it, or a newer one", has, version)
	}
	return r, nil
}

// reader reads a packed value; once broken, it reads nothing but zeros.
type reader struct {
	rest   []byte
	all    string // of which its texts are parts
	broken bool
}

func (r *reader) octet() (b byte) {
	if len(r.rest) > 0 {
		b = r.rest[0]
	}
	r.skip(1)
	return b
}

func (r *reader) number() uint64 {
	v, n := binary.Uvarint(r.rest)
	r.skipNumber(n)
	return v
}

func (r *reader) distance() int64 {
	v, n := binary.Varint(r.rest)
	r.skipNumber(n)
	return v
}

// count reads how many things follow, each of which takes a byte or more.
func (r *reader) count() int {
	n := r.number()
	if n > uint64(len(r.rest)) {
		r.skip(-1)
		return 0
	}
	return int(n)
}

func (r *reader) text() string {
	n := r.count()
	at := len(r.all) - len(r.rest)
	r.skip(n)
	return r.all[at : at+n]
}

// skipNumber skips a varint of n bytes; 0 or less tells that there was none.
func (r *reader) skipNumber(n int) {
	if n == 0 {
		n = -1
	}
	r.skip(n)
}

func (r *reader) skip(n int) {
	if n < 0 || n > len(r.rest) || r.broken {
		r.rest, r.broken = nil, true
		return
	}
	r.rest = r.rest[n:]
}
