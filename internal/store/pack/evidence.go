package pack

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"varnet/core/probe"
)

// Evidence of a batch is one value: its version, the texts of its answers, each once,
// then for each address in turn what it was asked. Times and parcels are written as
// their distance from the one before.
const evidenceVersion = 1

// Evidence packs what the addresses of a batch were asked; nil where none was.
func Evidence(all [][]probe.Asked) []byte {
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
	head := binary.AppendUvarint([]byte{evidenceVersion}, uint64(len(texts)))
	for _, t := range texts {
		head = appendText(head, t)
	}
	return append(head, body...)
}

// ReadEvidence returns what each of so many addresses was asked. Damaged evidence, and
// evidence of a version that this release does not know, is an error.
func ReadEvidence(packed []byte, addresses int) ([][]probe.Asked, error) {
	all := make([][]probe.Asked, addresses)
	if len(packed) == 0 {
		return all, nil
	}
	r, err := newReader(packed, evidenceVersion)
	if err != nil {
		return nil, fmt.Errorf("the evidence of a batch: %w", err)
	}
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
		return nil, errEvidence
	}
	return all, nil
}

var errEvidence = errors.New("the evidence of a batch is damaged")
