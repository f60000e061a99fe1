package store_test

import (
	"strings"
	"testing"
	"time"

	"varnet/internal/store"
	"varnet/internal/testkit"
)

// TestReplicaIsDoneWithout: where what is called a replica cannot be read from, the server itself is, and it is told why, once.
func TestReplicaIsDoneWithout(t *testing.T) {
	t.Parallel()
	dsn := testkit.Database(t)
	migrated, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer migrated.Close()
	if err := migrated.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	nobody := "postgres://varnet@127.0.0.1:" + testkit.FreePort(t) + "/varnet"
	for name, x := range map[string]struct{ dsn, why string }{
		"nobody listens": {nobody, "connection refused"},
		"no standby":     {dsn, "is no standby of another"},
		"another one":    {testkit.Database(t), "leads to another database"},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := store.Open(t.Context(), dsn)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			var told []string
			if err := s.ReadFrom(t.Context(), x.dsn, func(err error) { told = append(told, err.Error()) }); err != nil {
				t.Fatal(err)
			}
			for range 3 {
				began := time.Now()
				if _, err := s.Reading(t.Context()).Verdicts(t.Context()); err != nil {
					t.Error(err)
				}
				if took := time.Since(began); took > 2*time.Second {
					t.Errorf("a read took %s", took)
				}
			}
			if len(told) != 1 || !strings.Contains(told[0], x.why) {
				t.Errorf("told: %q", told)
			}
			if served, past, ok := s.ReplicaReads(); served != 0 || past != 3 || !ok {
				t.Errorf("%d reads from it, %d past it, %v", served, past, ok)
			}
		})
	}
}

// TestReplicaAddress: an address that is not understood is an error that names the setting, and no word of it.
func TestReplicaAddress(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), testkit.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, _, ok := s.ReplicaReads(); ok || s.Reading(t.Context()) != s {
		t.Error("it has a replica that nobody gave")
	}
	err = s.ReadFrom(t.Context(), "postgres://varnet:hidden@%zz/varnet", nil)
	if err == nil || !strings.Contains(err.Error(), "VARNET_REPLICA_DSN") || strings.Contains(err.Error(), "hidden") {
		t.Errorf("%v", err)
	}
}
