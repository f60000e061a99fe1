package finding

import (
	"os"
	"strings"
	"testing"
)

func TestRegistry(t *testing.T) {
	seen := map[Cause]bool{}
	for _, i := range Causes() {
		if seen[i.Code] {
			t.Errorf("%s stands twice", i.Code)
		}
		seen[i.Code] = true
		if stage, _, _ := strings.Cut(string(i.Code), "."); stage != string(i.Stage) {
			t.Errorf("%s is of stage %s", i.Code, i.Stage)
		}
		for _, text := range []string{i.Meaning, i.Advice} {
			if !strings.HasSuffix(text, ".") || len(text) < 8 {
				t.Errorf("%s: %q is not a sentence", i.Code, text)
			}
		}
		if len(i.Findings) == 0 || i.Title == "" {
			t.Errorf("%s lacks words", i.Code)
		}
		for _, f := range i.Findings {
			v := Conclude(f, i.Code, nil)
			if v.Odds < 0 || v.Odds > 1 || f == Deliverable && v.Odds < 0.9 || f == Undeliverable && v.Odds > 0.05 {
				t.Errorf("%s with %s has odds of %v", f, i.Code, v.Odds)
			}
		}
		// What is about us or the moment must never end as undeliverable.
		if i.Stage == StageExchanger && i.Code != ExchangerNoUTF8 && i.allows(Undeliverable) {
			t.Errorf("%s could make an address undeliverable", i.Code)
		}
	}
}

func TestConcludeRefusesWhatDoesNotGoTogether(t *testing.T) {
	defer func() {
		if recover() == nil {
			t.Error("a blocklisting was taken for an undeliverable address")
		}
	}()
	Conclude(Undeliverable, ExchangerBlocksUs, nil)
}

// TestDocumentIsCurrent holds docs/causes.md against the registry; run the test
// with VARNET_WRITE=1 to write it anew.
func TestDocumentIsCurrent(t *testing.T) {
	const path = "../../docs/causes.md"
	if os.Getenv("VARNET_WRITE") != "" {
		if err := os.WriteFile(path, []byte(Markdown()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(path)
	if err != nil || string(have) != Markdown() {
		t.Errorf("docs/causes.md is behind (%v); write it anew: VARNET_WRITE=1 go test ./core/finding", err)
	}
}

func TestTraits(t *testing.T) {
	set := Traits{}.With(TraitRole, TraitDisposable, TraitRole)
	if len(set) != 2 || set[0] != TraitDisposable || !set.Has(TraitRole) || set.Has(TraitTypo) {
		t.Errorf("the set is %v", set)
	}
	if h := set.Harmful(); len(h) != 1 || h[0].Code != TraitDisposable {
		t.Errorf("harmful: %v", h)
	}
}
