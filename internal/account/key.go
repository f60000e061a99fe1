package account

import (
	"hash/crc32"
	"strings"
)

// A key is "varnet_", 30 random letters and digits (178 bits), and 6 that are their checksum:
// whoever searches texts for leaked keys finds them by their form, and takes no other text
// for one.
const (
	keyPrefix   = "varnet_"
	keyRandom   = 30
	keyChecksum = 6
	alphabet    = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
)

// NewKey makes a key.
func NewKey() string {
	text := keyPrefix + drawn(keyRandom, alphabet)
	return text + checksum(text)
}

// checksum is the CRC-32 (IEEE) of a text in letters and digits.
func checksum(text string) string {
	sum, out := uint64(crc32.ChecksumIEEE([]byte(text))), [keyChecksum]byte{}
	for i := range out {
		out[keyChecksum-1-i] = alphabet[sum%uint64(len(alphabet))]
		sum /= uint64(len(alphabet))
	}
	return string(out[:])
}

// IsKey reports whether a text has the form of a key, with the right checksum.
func IsKey(text string) bool {
	if len(text) != len(keyPrefix)+keyRandom+keyChecksum || !strings.HasPrefix(text, keyPrefix) {
		return false
	}
	at := len(text) - keyChecksum
	return checksum(text[:at]) == text[at:]
}
