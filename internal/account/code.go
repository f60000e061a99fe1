package account

import (
	"crypto/rand"
	"fmt"
	"math/big"
	"strings"
)

// drawn returns n random characters of an alphabet.
func drawn(n int, of string) string {
	var b strings.Builder
	base := big.NewInt(int64(len(of)))
	for range n {
		i, _ := rand.Int(rand.Reader, base) // never fails
		b.WriteByte(of[i.Int64()])
	}
	return b.String()
}

// newCode makes a code of six digits, which goes by letter.
func newCode() string { return drawn(6, "0123456789") }

// spaced writes a code so that it can be read: 402 918.
func spaced(code string) string { return code[:3] + " " + code[3:] }

// consonants make no words (RFC 8628, 6.1).
const consonants = "BCDFGHJKLMNPQRSTVWXZ"

// newUserCode makes the code that a person types to let a device in: 34 bits.
func newUserCode() string { return drawn(4, consonants) + "-" + drawn(4, consonants) }

// recoveryLetters leave out what looks alike.
const recoveryLetters = "23456789abcdefghjkmnpqrstuvwxyz"

// recoveryCount is how many recovery codes somebody gets.
const recoveryCount = 10

// newRecoveryCodes makes recovery codes of 79 bits each.
func newRecoveryCodes() []string {
	out := make([]string, recoveryCount)
	for i := range out {
		out[i] = fmt.Sprintf("%s-%s-%s-%s", drawn(4, recoveryLetters), drawn(4, recoveryLetters), drawn(4, recoveryLetters), drawn(4, recoveryLetters))
	}
	return out
}

// typed takes what people put between the characters of a code out.
func typed(code string) string {
	return strings.Map(func(r rune) rune {
		if r == ' ' || r == '-' || r == '\u00a0' || r == '\t' {
			return -1
		}
		return r
	}, code)
}

// recoveryForm is a recovery code as it was made, however it was typed.
func recoveryForm(code string) string {
	code = strings.ToLower(typed(code))
	if len(code) != 16 {
		return ""
	}
	return code[:4] + "-" + code[4:8] + "-" + code[8:12] + "-" + code[12:]
}

// userForm is a device's code as it was made, however it was typed.
func userForm(code string) string {
	code = strings.ToUpper(typed(code))
	if len(code) != 8 {
		return ""
	}
	return code[:4] + "-" + code[4:]
}
