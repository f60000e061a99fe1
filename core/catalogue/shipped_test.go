package catalogue

import (
	"slices"
	"strings"
	"testing"
)

// TestShipped: every shipped entry comes once, in order, page after page, and a search finds
// those that hold the text.
func TestShipped(t *testing.T) {
	for _, kind := range Kinds() {
		var all []string
		for after := ""; ; after = all[len(all)-1] {
			page := Shipped(kind, "", after, 97)
			if all = append(all, page...); len(page) < 97 {
				break
			}
		}
		if len(all) != len(shipped[kind]) || !slices.IsSorted(all) || len(slices.Compact(slices.Clone(all))) != len(all) {
			t.Errorf("%s: %d of %d entries, in order: %v", kind, len(all), len(shipped[kind]), slices.IsSorted(all))
		}
		for _, name := range all {
			if !Default().Has(kind, name) {
				t.Errorf("%s: %q is shipped and does not count", kind, name)
			}
		}
	}
	found := Shipped(Roles, "info", "", 1000)
	if !slices.Contains(found, "info") || slices.ContainsFunc(found, func(n string) bool { return !strings.Contains(n, "info") }) {
		t.Errorf("a search for info finds %q", found)
	}
	if got := Shipped("fish", "", "", 10); got == nil || len(got) > 0 {
		t.Errorf("a kind that there is not has %q", got)
	}
}
