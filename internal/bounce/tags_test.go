package bounce

import (
	"crypto/hmac"
	"crypto/sha256"
	"strings"
	"testing"
)

func sums(secrets ...string) func(string) [][]byte {
	return func(text string) (all [][]byte) {
		for _, s := range secrets {
			h := hmac.New(sha256.New, []byte(s))
			h.Write([]byte(text))
			all = append(all, h.Sum(nil))
		}
		return all
	}
}

// TestTags holds that a return address names its letter, also in capitals and after a
// change of the secret, and that no other text does.
func TestTags(t *testing.T) {
	tags := Tags{"returns.fernhollow.example", sums("one")}
	a := tags.Address(36, 1_000_000)
	if local, _, _ := strings.Cut(a, "@"); len(local) > 64 {
		t.Errorf("the local part has %d bytes: RFC 5321 allows 64", len(local))
	}
	for _, text := range []string{a, strings.ToUpper(a)} {
		if key, ok := tags.letter(text); !ok || key != (letterKey{36, 1_000_000}) {
			t.Errorf("%s: %v, %v", text, key, ok)
		}
	}
	later := Tags{"returns.fernhollow.example", sums("two", "one")}
	if _, ok := later.letter(a); !ok {
		t.Error("the secret before the present one is not good any more")
	}
	for _, text := range []string{"", "b+", "b+10-lflp-", "b+10-lflq-" + a[10:], strings.Replace(a, "b+10", "b+11", 1), strings.Replace(a, "returns", "return", 1), "b+-1-1-" + a[12:]} {
		if _, ok := tags.letter(text); ok {
			t.Errorf("%q is taken", text)
		}
	}
	if _, ok := (Tags{"returns.fernhollow.example", sums("three")}).letter(a); ok {
		t.Error("another secret is as good")
	}
	if tags.forged([]string{a, "ada@fernhollow.example"}) || !tags.forged([]string{"b+1-1-x@returns.fernhollow.example"}) {
		t.Error("forged addresses are not told")
	}
	if (Tags{}).Address(1, 1) != "" {
		t.Error("there are return addresses without a domain")
	}
}

// TestMaskedWords: the address is taken out of the words of a host whatever its case, also where
// letters have more bytes in one case than in the other.
func TestMaskedWords(t *testing.T) {
	for _, c := range []struct{ text, old, want string }{
		{"<ADA@orchard.example> unknown", "ada@orchard.example", "<[address]> unknown"},
		{"k", "\u212a", "k"}, // the Kelvin sign
		{"no \u212a here, ada", "ada", "no \u212a here, [address]"},
		{"İada", "ada", "İ[address]"},
	} {
		if got := replaceFold(c.text, c.old, "[address]"); got != c.want {
			t.Errorf("%q without %q is %q", c.text, c.old, got)
		}
	}
}
