package store

import "varnet/internal/store/pack"

// marks are some addresses of a list, a bit for each that there may be.
type marks struct {
	bits []uint64
	// parts are how many are marked in each part of a run's latest results.
	parts []int32
}

func (m *marks) mark(address int32) {
	if m.has(address) || address < 0 {
		return
	}
	if more := int(address)>>6 + 1 - len(m.bits); more > 0 {
		m.bits = append(m.bits, make([]uint64, more)...)
	}
	if more := int(address)>>pack.PartBits + 1 - len(m.parts); more > 0 {
		m.parts = append(m.parts, make([]int32, more)...)
	}
	m.bits[address>>6] |= 1 << (address & 63)
	m.parts[address>>pack.PartBits]++
}

func (m *marks) has(address int32) bool {
	return address >= 0 && int(address)>>6 < len(m.bits) && m.bits[address>>6]&(1<<(address&63)) != 0
}

// in is how many are marked in a part.
func (m *marks) in(part int) int32 {
	if part >= len(m.parts) {
		return 0
	}
	return m.parts[part]
}
