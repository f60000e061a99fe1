package pack

import (
	"encoding/binary"
	"fmt"
	"slices"
)

// The latest results of a run are kept in parts, each of so many addresses that follow each other,
// in two values: the verdict of each address, and the batch in which it stands.
const (
	PartBits = 15
	PartSize = 1 << PartBits
)

const (
	verdictsVersion = 1
	batchesVersion  = 1
)

// LatestPart is the latest results of the addresses of a part, by their place in it.
type LatestPart struct {
	// Verdicts are their numbers, 0: no result.
	Verdicts []int32
	// Batches are the numbers of the batches in which their evidence is, where there is a result.
	Batches []int64
}

// NewLatestPart returns a part without results.
func NewLatestPart() *LatestPart {
	return &LatestPart{make([]int32, PartSize), make([]int64, PartSize)}
}

// Pack packs a part. Verdicts are places among the different ones of the part, one byte each where
// these are up to 256; batches are their distance from the lowest.
func (p *LatestPart) Pack() (verdicts, batches []byte) {
	different, place := p.different()
	verdicts = make([]byte, 0, 2*PartSize)
	verdicts = binary.AppendUvarint(append(verdicts, verdictsVersion), uint64(len(different)))
	for _, v := range different {
		verdicts = binary.AppendUvarint(verdicts, uint64(v))
	}
	for _, v := range p.Verdicts {
		at := place(v)
		if len(different) > 256 {
			verdicts = append(verdicts, byte(at>>8))
		}
		verdicts = append(verdicts, byte(at))
	}
	lowest := int64(0)
	for i, b := range p.Batches {
		if p.Verdicts[i] != 0 && (lowest == 0 || b < lowest) {
			lowest = b
		}
	}
	batches = make([]byte, 0, 3*PartSize)
	batches = binary.AppendUvarint(append(batches, batchesVersion), uint64(lowest))
	for i, b := range p.Batches {
		if p.Verdicts[i] != 0 {
			batches = binary.AppendUvarint(batches, uint64(b-lowest))
		}
	}
	return verdicts, batches
}

// tableUpTo is up to which verdict places are looked up in a table: they are numbered from 1, and there are
// some hundreds.
const tableUpTo = 1 << 16

// different are the verdicts of a part, each once, in order, and the place of each among them.
func (p *LatestPart) different() (all []int32, place func(verdict int32) int32) {
	if highest := slices.Max(p.Verdicts); highest < tableUpTo {
		table := make([]int32, highest+1)
		for _, v := range p.Verdicts {
			table[v] = 1
		}
		for v, there := range table {
			if there == 1 {
				table[v] = int32(len(all))
				all = append(all, int32(v))
			}
		}
		return all, func(verdict int32) int32 { return table[verdict] }
	}
	all = slices.Compact(slices.Sorted(slices.Values(p.Verdicts)))
	places := make(map[int32]int32, len(all))
	for i, v := range all {
		places[v] = int32(i)
	}
	return all, func(verdict int32) int32 { return places[verdict] }
}

// Counts returns how many addresses of a part have each verdict.
func (p *LatestPart) Counts() (different, counts []int32) {
	different, place := p.different()
	counts = make([]int32, len(different))
	for _, v := range p.Verdicts {
		counts[place(v)]++
	}
	if different[0] == 0 { // those without a result
		return different[1:], counts[1:]
	}
	return different, counts
}

// ReadVerdicts reads the verdicts of a part and calls do for each address that has one, by its place.
func ReadVerdicts(packed []byte, do func(place int, verdict int32)) error {
	r, err := newReader(packed, verdictsVersion)
	if err != nil {
		return fmt.Errorf("a part of the latest results: %w", err)
	}
	different := make([]int32, r.count())
	for i := range different {
		different[i] = int32(r.number())
	}
	width := 1
	if len(different) > 256 {
		width = 2
	}
	if r.broken || len(r.rest) != width*PartSize {
		return fmt.Errorf("a part of the latest results has %d bytes of verdicts, not %d: it is damaged", len(r.rest), width*PartSize)
	}
	for i := range PartSize {
		at := int(r.rest[i*width])
		if width == 2 {
			at = at<<8 | int(r.rest[2*i+1])
		}
		if at >= len(different) {
			return fmt.Errorf("a part of the latest results names the verdict %d of %d: it is damaged", at+1, len(different))
		}
		if v := different[at]; v != 0 {
			do(i, v)
		}
	}
	return nil
}

// ReadLatestPart reads a part; without batches, where they are nil.
func ReadLatestPart(verdicts, batches []byte) (*LatestPart, error) {
	p := &LatestPart{Verdicts: make([]int32, PartSize)}
	if err := ReadVerdicts(verdicts, func(place int, verdict int32) { p.Verdicts[place] = verdict }); err != nil || batches == nil {
		return p, err
	}
	r, err := newReader(batches, batchesVersion)
	if err != nil {
		return nil, fmt.Errorf("a part of the latest results: %w", err)
	}
	p.Batches = make([]int64, PartSize)
	lowest := int64(r.number())
	for i, v := range p.Verdicts {
		if v != 0 {
			p.Batches[i] = lowest + int64(r.number())
		}
	}
	if r.broken || len(r.rest) > 0 {
		return nil, fmt.Errorf("a part of the latest results names fewer or more batches than it has results: it is damaged")
	}
	return p, nil
}
