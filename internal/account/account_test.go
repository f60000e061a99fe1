package account

import (
	"regexp"
	"slices"
	"strings"
	"testing"
)

// TestKeys: keys differ, have a form that a search finds, and show a slip of one character.
func TestKeys(t *testing.T) {
	form := regexp.MustCompile(`^varnet_[0-9A-Za-z]{36}$`)
	seen := map[string]bool{}
	for range 1000 {
		k := NewKey()
		if !form.MatchString(k) || !IsKey(k) || seen[k] {
			t.Fatalf("%q is not a key, or made twice", k)
		}
		seen[k] = true
		for at := len(keyPrefix); at < len(k); at += 5 {
			other := []byte(k)
			other[at] = alphabet[(strings.IndexByte(alphabet, k[at])+1)%len(alphabet)]
			if IsKey(string(other)) {
				t.Errorf("%q is taken for a key, with another character at %d", other, at)
			}
		}
	}
	for _, no := range []string{"", "varnet_", "varnet_mLbG35WFj6ZK6aCYRNRMquE_D9x_4aX5TNayCoSGDe0", strings.Repeat("x", 43)} {
		if IsKey(no) {
			t.Errorf("%q is taken for a key", no)
		}
	}
}

// TestScopes: scopes are read by name, each once; what there is not is an error.
func TestScopes(t *testing.T) {
	got, err := ReadScopes([]string{"check", "read", "check"})
	if err != nil || !slices.Equal(got, []Scope{Read, Check}) {
		t.Errorf("%v, %v", got, err)
	}
	for want, names := range map[string][]string{`there is no scope "admin"`: {"read", "admin"}, "at least one scope": {}} {
		if _, err := ReadScopes(names); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v: %v, want %q", names, err, want)
		}
	}
	for _, s := range Scopes() {
		if s.Says() == "" {
			t.Errorf("%s says nothing", s)
		}
	}
}
