package store_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"varnet/internal/store"
)

// TestChangesAndTokens: a connection that is renamed while its token is refreshed has both afterwards, whichever began first; one
// of another workspace, and a change that is given up, change nothing.
func TestChangesAndTokens(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "ours")
	c := store.Connection{WorkspaceID: w, Name: "members", Kind: "platform", Settings: map[string]string{}, Sealed: []byte("old")}
	if err := s.NewConnection(t.Context(), &c); err != nil {
		t.Fatal(err)
	}
	rename := func(name string, meanwhile func()) error {
		_, err := s.ChangeConnection(t.Context(), w, c.ID, func(c *store.Connection) error { c.Name = name; meanwhile(); return nil })
		return err
	}
	refresh := func(token string, meanwhile func()) error {
		_, err := s.ChangeConnection(t.Context(), w, c.ID, func(c *store.Connection) error { meanwhile(); c.Sealed = []byte(token); return nil })
		return err
	}
	check := func(name, token string) {
		t.Helper()
		if now, err := s.Connection(t.Context(), w, c.ID); err != nil || now.Name != name || string(now.Sealed) != token {
			t.Errorf("%v: %s with the token %s, not %s with %s", err, now.Name, now.Sealed, name, token)
		}
	}

	// beside has the second begin while the first is in the midst, and waits for both.
	beside := func(first func(meanwhile func()) error, second func() error) {
		t.Helper()
		done := make(chan error, 1)
		err := first(func() {
			go func() { done <- second() }()
			select {
			case err := <-done:
				t.Errorf("the second did not wait for the first: %v", err)
				done <- err
			case <-time.After(100 * time.Millisecond):
			}
		})
		if err := errors.Join(err, <-done); err != nil {
			t.Fatal(err)
		}
	}
	beside(func(m func()) error { return rename("guests", m) }, func() error { return refresh("fresh", func() {}) })
	check("guests", "fresh")
	beside(func(m func()) error { return refresh("fresher", m) }, func() error { return rename("sponsors", func() {}) })
	check("sponsors", "fresher")

	givenUp := errors.New("given up")
	for _, one := range []struct {
		workspace int64
		want      error
	}{{w, givenUp}, {workspace(t, s, "theirs"), store.ErrNotFound}} {
		_, err := s.ChangeConnection(context.Background(), one.workspace, c.ID, func(c *store.Connection) error { c.Name = "none"; return givenUp })
		if !errors.Is(err, one.want) {
			t.Errorf("of the workspace %d: %v", one.workspace, err)
		}
	}
	check("sponsors", "fresher")
}
