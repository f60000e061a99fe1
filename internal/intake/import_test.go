package intake

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/internal/store"
	"varnet/internal/testkit"
)

// TestGathered: the addresses of domains are written piece by piece while their file is read, and all of them
// are there in the end, each once and in order, whatever the pieces.
func TestGathered(t *testing.T) {
	ctx := t.Context()
	s, err := store.Open(ctx, testkit.Database(t))
	if err == nil {
		err = s.Migrate(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	w, err := s.NewWorkspace(ctx, "ours")
	if err != nil {
		t.Fatal(err)
	}
	const rows = 5_000
	var file strings.Builder
	file.WriteString("e-mail\n")
	for n := range rows {
		fmt.Fprintf(&file, "person%d@%s.example\n", n, []string{"seed", "barn", "shed", fmt.Sprintf("yard%d", n/100)}[n%4])
	}
	var parts []int
	for _, atMost := range []int{gatheredAtMost, 2_000} {
		i := &Importer{Store: s, Grammar: address.Grammar{}, gatherAtMost: atMost,
			Catalogue: func(context.Context, int64) (*catalogue.Catalogue, error) { return catalogue.Default(), nil },
			Imported:  func(context.Context, *store.Store, pgx.Tx, store.List, File) error { return nil }}
		l, err := i.Import(ctx, File{Workspace: w.ID, Name: "members.csv"}, strings.NewReader(file.String()))
		if err != nil || l.Addresses != rows {
			t.Fatalf("%+v, %v", l.ListCounts, err)
		}
		byDomain := map[string][]int32{}
		err = s.EachMailbox(ctx, l.ID, func(ordinal int32, local, domain string) error {
			if want := fmt.Sprintf("person%d", ordinal-1); local != want {
				t.Fatalf("address %d is %s, not %s", ordinal, local, want)
			}
			byDomain[domain] = append(byDomain[domain], ordinal)
			return nil
		})
		all := 0
		for domain, ordinals := range byDomain {
			if all += len(ordinals); !slices.IsSorted(ordinals) {
				t.Errorf("the addresses of %s are not in order", domain)
			}
		}
		if err != nil || all != rows {
			t.Errorf("%d addresses, %v", all, err)
		}
		sizes, err := s.Domains(ctx, l.ID, "", store.DomainSize{}, 1000)
		if err != nil || len(sizes) != len(byDomain) {
			t.Errorf("%d domains, not %d: %v", len(sizes), len(byDomain), err)
		}
		for _, d := range sizes {
			if int(d.Addresses) != len(byDomain[d.Domain]) {
				t.Errorf("%s has %d addresses, not %d", d.Domain, d.Addresses, len(byDomain[d.Domain]))
			}
		}
		var n int
		if err := s.Pool().QueryRow(ctx, "SELECT count(*) FROM list_part WHERE list_id = $1", l.ID).Scan(&n); err != nil {
			t.Fatal(err)
		}
		parts = append(parts, n)
	}
	if parts[1] < 2*parts[0] {
		t.Errorf("in pieces there are %v parts: nothing was handed on before the end", parts)
	}
}
