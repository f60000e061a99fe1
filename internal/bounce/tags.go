package bounce

import (
	"crypto/subtle"
	"encoding/base32"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Tags makes and reads return addresses of letters, one for each (variable envelope return
// paths). A tag names a letter and carries a keyed hash of that, so that nobody can report a
// bounce of a letter they have not got.
type Tags struct {
	// Domain is that of the return addresses; "" where there are none.
	Domain string
	// Sums returns the keyed hashes of a text by all secrets, the present one's first.
	Sums func(text string) [][]byte
}

// returnLocal begins the local part of every return address.
const returnLocal = "b+"

// signed is how many bytes of the hash a tag carries.
const signed = 10

var base32Lower = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

// Address returns the return address of a letter, "" where the installation takes none. In
// it only small letters, digits and hyphens stand behind the plus sign, for hosts that do
// not keep case.
func (t Tags) Address(mailing int64, number int) string {
	if t.Domain == "" {
		return ""
	}
	return returnLocal + t.Tag(mailing, number) + "@" + t.Domain
}

func named(mailing int64, number int) string { return fmt.Sprintf("letter %d of %d", number, mailing) }

func (t Tags) signed(mailing int64, number int, sum []byte) string {
	return strconv.FormatInt(mailing, 36) + "-" + strconv.FormatInt(int64(number), 36) + "-" + base32Lower.EncodeToString(sum[:signed])
}

// ours returns the tag of an address that is a return address by its form.
func (t Tags) ours(address string) (tag string, ok bool) {
	local, domain, _ := strings.Cut(canonical(address), "@")
	if t.Domain == "" || domain != strings.ToLower(t.Domain) {
		return "", false
	}
	return strings.CutPrefix(local, returnLocal)
}

// letter returns the letter whose return address this is; ok is false where its tag is wrong.
func (t Tags) letter(address string) (key letterKey, ok bool) {
	tag, ours := t.ours(address)
	if !ours {
		return key, false
	}
	return t.read(tag, named)
}

// read returns the letter that a tag names; ok is false where its hash is wrong. text is what
// was hashed.
func (t Tags) read(tag string, text func(mailing int64, number int) string) (key letterKey, ok bool) {
	parts := strings.Split(tag, "-")
	if len(parts) != 3 {
		return key, false
	}
	mailing, err := strconv.ParseInt(parts[0], 36, 64)
	if err != nil || mailing <= 0 {
		return key, false
	}
	number, err := strconv.ParseInt(parts[1], 36, 32)
	if err != nil || number <= 0 {
		return key, false
	}
	right := slices.ContainsFunc(t.Sums(text(mailing, int(number))), func(sum []byte) bool {
		return subtle.ConstantTimeCompare([]byte(t.signed(mailing, int(number), sum)), []byte(tag)) == 1
	})
	return letterKey{mailing, int(number)}, right
}

// Tag returns the tag of a letter's return address.
func (t Tags) Tag(mailing int64, number int) string {
	return t.signed(mailing, number, t.Sums(named(mailing, number))[0])
}

// UnsubscribeTag returns the tag of the link by which whom a letter went to unsubscribes.
// It is another than that of the return address, which hosts on the way see.
func (t Tags) UnsubscribeTag(mailing int64, number int) string {
	return t.signed(mailing, number, t.Sums(unsubscribing(mailing, number))[0])
}

// Unsubscribes returns the letter that such a tag names; ok is false where its hash is wrong.
func (t Tags) Unsubscribes(tag string) (mailing int64, number int, ok bool) {
	key, ok := t.read(tag, unsubscribing)
	return key.mailing, key.number, ok
}

func unsubscribing(mailing int64, number int) string {
	return fmt.Sprintf("no more after letter %d of %d", number, mailing)
}

// forged reports whether a message was sent to a return address of ours whose tag is wrong.
func (t Tags) forged(to []string) bool {
	for _, a := range to {
		if _, ours := t.ours(a); ours {
			if _, right := t.letter(a); !right {
				return true
			}
		}
	}
	return false
}
