package bounce

import (
	"strings"
	"testing"
	"unicode/utf8"
)

// FuzzRead holds that no message, however broken, breaks the reader or its bounds, and
// that what it credits was mailed.
func FuzzRead(f *testing.F) {
	for _, m := range corpus(f) {
		f.Add(m.raw)
	}
	sent := mailing{map[string]string{"ada@fernhollow.example": "ada@fernhollow.example"}, map[string]string{}, map[string]string{}}
	f.Fuzz(func(t *testing.T, raw []byte) {
		n := Read(raw)
		if len(n.Words) > maxWords || len(n.Recipients) > maxRecipients {
			t.Fatalf("%d bytes of words, %d recipients", len(n.Words), len(n.Recipients))
		}
		for _, r := range n.Recipients {
			if len(r.Words) > maxReason || !utf8.ValidString(r.Words) {
				t.Fatalf("reason of %d bytes: %q", len(r.Words), r.Words)
			}
			if r.Permanent && r.Action != Failed {
				t.Fatalf("%s is permanent and was %s", r.Final, r.Action)
			}
		}
		for _, c := range Whom(n, sent) {
			if _, ok := sent.Has(c.Address); !ok {
				t.Fatalf("%q was not mailed", c.Address)
			}
		}
		for _, text := range []string{n.Words, n.Subject, n.From, n.Host, n.ID} {
			if strings.ContainsRune(text, 0) || !utf8.ValidString(text) {
				t.Fatalf("%q cannot be kept", text)
			}
		}
	})
}
