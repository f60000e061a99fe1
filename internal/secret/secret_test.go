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
