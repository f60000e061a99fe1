package store

import (
	"encoding/binary"
	"errors"
	"math"
	"strings"
	"time"

	"varnet/core/probe"
)

// Evidence of a batch is kept as one piece: the texts that its answers hold, each
// once, then for each address in turn what it was asked. Numbers are varints
// (encoding/binary); times and parcels are told by their distance from the one
// before.

// packEvidence packs what the addresses of a batch were asked; nil where none was.
func packEvidence(all [][]probe.Asked) []byte {
	var body []byte
	texts, places := []string{}, map[string]uint64{}
	place := func(text string) uint64 {
		p, ok := places[text]
		if !ok {
			p = uint64(len(texts))
			texts, places[text] = append(texts, text), p
		}
		return p
	}
	some, parcel, at := false, int64(0), int64(0)
	for _, asked := range all {
		body = binary.AppendUvarint(body, uint64(len(asked)))
		for _, a := range asked {
			some = true
			body = binary.AppendVarint(body, a.Parcel-parcel)
			body = binary.AppendUvarint(body, uint64(a.Conversation))
			body = binary.AppendVarint(body, a.At.UnixMicro()-at)
			body = binary.AppendUvarint(body, uint64(math.Round(a.TookMS*1000)))
			body = binary.AppendUvarint(body, place(a.Reply))
			body = binary.AppendUvarint(body, place(a.Why))
			parcel, at = a.Parcel, a.At.UnixMicro()
		}
	}
	if !some {
		return nil
	}
	head := binary.AppendUvarint(nil, uint64(len(texts)))
	for _, t := range texts {
		head = appendText(head, t)
	}
	return append(head, body...)
}

// unpackEvidence gives what each of so many addresses was asked.
func unpackEvidence(packed []byte, addresses int) ([][]probe.Asked, error) {
	all := make([][]probe.Asked, addresses)
	if len(packed) == 0 {
		return all, nil
	}
	r := newUnpacker(packed)
	texts := make([]string, r.count())
	for i := range texts {
		texts[i] = strings.Clone(r.text()) // without the rest of the batch
	}
	text := func() string {
		if p := r.number(); p < uint64(len(texts)) {
			return texts[p]
		}
		r.broken = true
		return ""
	}
	parcel, at := int64(0), int64(0)
	for i := range all {
		all[i] = make([]probe.Asked, r.count())
		for j := range all[i] {
			a := &all[i][j]
			parcel += r.distance()
			a.Parcel, a.Conversation = parcel, int(r.number())
			at += r.distance()
			a.At, a.TookMS = time.UnixMicro(at).UTC(), float64(r.number())/1000
			a.Reply, a.Why = text(), text()
		}
	}
	if r.broken || len(r.rest) > 0 {
		return nil, errBroken
	}
	return all, nil
}

var errBroken = errors.New("the evidence of a batch is damaged")

// unpacker reads what was packed; once broken, it reads nothing but zeros.
type unpacker struct {
	rest   []byte
	all    string // of which its texts are parts
	broken bool
}

func newUnpacker(packed []byte) unpacker { return unpacker{rest: packed, all: string(packed)} }

func (r *unpacker) octet() (b byte) {
	if len(r.rest) > 0 {
		b = r.rest[0]
	}
	r.skip(1)
	return b
}

func (r *unpacker) number() uint64 {
	v, n := binary.Uvarint(r.rest)
	r.skipNumber(n)
	return v
}

func (r *unpacker) distance() int64 {
	v, n := binary.Varint(r.rest)
	r.skipNumber(n)
	return v
}

// count reads how many things follow, each of which takes a byte or more.
func (r *unpacker) count() int {
	n := r.number()
	if n > uint64(len(r.rest)) {
		r.skip(-1)
		return 0
	}
	return int(n)
}

func (r *unpacker) text() string {
	n := r.count()
	at := len(r.all) - len(r.rest)
	r.skip(n)
	return r.all[at : at+n]
}

// skipNumber skips a varint of n bytes; 0 or less tells that there was none.
func (r *unpacker) skipNumber(n int) {
	if n == 0 {
		n = -1
	}
	r.skip(n)
}

func (r *unpacker) skip(n int) {
	if n < 0 || n > len(r.rest) || r.broken {
		r.rest, r.broken = nil, true
		return
	}
	r.rest = r.rest[n:]
}
