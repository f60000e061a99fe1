package rights

import (
	"strings"
	"testing"

	"varnet/internal/store"
)

// TestDone: an erasure is told by what there was, and not by what there was none of.
func TestDone(t *testing.T) {
	for want, r := range map[string]store.Request{
		"Nothing was held about the address. It is neither kept nor asked about when it comes.": {},
		"1 row of 1 list is blank. ":                                                   {Rows: 1, Lists: 1},
		"1 other record was erased. ":                                                  {Elsewhere: 1},
		"1 result and 1 other record were erased. ":                                    {Results: 1, Elsewhere: 1},
		"3 rows of 2 lists are blank; 4 results and 1,200 other records were erased. ": {Rows: 3, Lists: 2, Results: 4, Elsewhere: 1200},
	} {
		if got := done(r); !strings.HasPrefix(got, want) {
			t.Errorf("%+v: %q", r, got)
		}
	}
}
