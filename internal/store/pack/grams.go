package pack

// A block records which sequences of gramLength bytes its texts contain, one bit for each of 8 * gramBytes hashes. A search
// rules most blocks out by that without reading their texts. With so many bytes four blocks fit on a page of the database,
// which keeps them: other lengths need a migration.
const (
	gramLength = 4
	gramBytes  = 1792
)

// MostGrams is how many sequences of a text are looked for at most.
const MostGrams = 16

// gramAt is the bit of the sequence at a place of a text.
func gramAt(text string, at int) uint32 {
	bytes := uint32(text[at]) | uint32(text[at+1])<<8 | uint32(text[at+2])<<16 | uint32(text[at+3])<<24
	return uint32(uint64(bytes*2654435769) * (8 * gramBytes) >> 32) // Knuth's multiplicative hash
}

// GramsOf returns bits that are set in the Grams of every block that holds a text, as Searched writes it: MostGrams at
// most, spread over it, and none of a text that is too short to tell.
func GramsOf(text string) (bits []int64) {
	n := len(text) - gramLength + 1
	for i := range min(n, MostGrams) {
		bits = append(bits, int64(gramAt(text, i*n/min(n, MostGrams))))
	}
	return bits
}

// addGrams records the sequences of a text.
func (b *Block) addGrams(text string) {
	if b.grams == nil {
		b.grams = make([]byte, gramBytes)
	}
	for at := range len(text) - gramLength + 1 {
		bit := gramAt(text, at)
		b.grams[bit/8] |= 1 << (bit % 8)
	}
}

// Grams returns the bits of all sequences in the texts, numbered as PostgreSQL's get_bit numbers them; nil where the texts
// are no longer than the bits and may as well be read.
func (b *Block) Grams() []byte {
	if len(b.Texts) <= gramBytes {
		return nil
	}
	return b.grams
}
