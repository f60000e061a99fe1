package secret

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestBox(t *testing.T) {
	name := filepath.Join(t.TempDir(), "made", "secret")
	b, err := File(name)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("the file: %v, %v", info, err)
	}
	sealed := b.Seal("geheim", "route north")
	if bytes.Contains(sealed, []byte("geheim")) || bytes.Equal(sealed, b.Seal("geheim", "route north")) {
		t.Error("it is not sealed, or twice the same")
	}
	again, err := File(name)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := again.Open(sealed, "route north"); err != nil || text != "geheim" {
		t.Errorf("opened: %q, %v", text, err)
	}
	if _, err := b.Open(sealed, "route south"); err == nil {
		t.Error("it opens for another purpose")
	}
	other, err := New(Random())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Open(sealed, "route north"); err == nil || !strings.Contains(err.Error(), "another secret") {
		t.Errorf("with another secret: %v", err)
	}
	if _, err := b.Open([]byte("x"), ""); err == nil {
		t.Error("a scrap opens")
	}
}

// TestRotation: a new secret goes before the old one, for those that have the file open, too,
// until the old one is forgotten.
func TestRotation(t *testing.T) {
	name := filepath.Join(t.TempDir(), "secret")
	running, err := File(name)
	if err != nil {
		t.Fatal(err)
	}
	old := running.Seal("geheim", "route north")
	first := running.Prints("ada@fernhollow.example", "absence")
	if err := Rotate(name); err != nil {
		t.Fatal(err)
	}
	if prints := running.Prints("ada@fernhollow.example", "absence"); len(prints) != 2 || !bytes.Equal(prints[1].Sum, first[0].Sum) || bytes.Equal(prints[0].Secret, prints[1].Secret) {
		t.Errorf("fingerprints %x after %x", prints, first)
	}
	fresh, err := running.Reseal(old, "route north")
	if err != nil || fresh == nil {
		t.Fatalf("not sealed anew: %v", err)
	}
	if again, err := running.Reseal(fresh, "route north"); again != nil || err != nil {
		t.Errorf("sealed anew twice: %v", err)
	}
	for what, sealed := range map[string][]byte{"the old": old, "the new": fresh} {
		if text, err := running.Open(sealed, "route north"); err != nil || text != "geheim" {
			t.Errorf("%s opens as %q, %v", what, text, err)
		}
	}
	if _, before := running.Before(); !before {
		t.Error("it does not know of the secret before")
	}
	if err := Forget(name); err != nil {
		t.Fatal(err)
	}
	if _, err := running.Open(old, "route north"); err == nil {
		t.Error("the old opens still")
	}
	if text, err := running.Open(fresh, "route north"); err != nil || text != "geheim" {
		t.Errorf("the new opens as %q, %v", text, err)
	}
	if err := os.WriteFile(name, []byte("short\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := running.Open(fresh, "route north"); err != nil {
		t.Errorf("a file that is not a secret any more takes the known one away: %v", err)
	}
	if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file: %v, %v", info, err)
	}
}

func TestBadSecrets(t *testing.T) {
	if _, err := New("short"); err == nil || !strings.Contains(err.Error(), "at least 32") {
		t.Errorf("a short one: %v", err)
	}
	name := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(name, []byte(Random()), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := File(name); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("one that others can read: %v", err)
	}
}
