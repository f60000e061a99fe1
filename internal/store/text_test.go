package store_test

import (
	"encoding/json"
	"testing"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
	"varnet/internal/store"
)

// TestInvalidTexts: whatever came from outside is stored, with U+FFFD for NUL and for bytes that are not UTF-8.
func TestInvalidTexts(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	w, err := s.NewWorkspace(ctx, "seed\x00 library \xff")
	if err != nil {
		t.Fatal(err)
	}
	if w.Name != "seed\ufffd library \ufffd" {
		t.Errorf("the workspace is called %q", w.Name)
	}
	for _, words := range []string{"550 no\x00 such user", "550 \xd0\xa1\xd0", `550 the words \u0000 themselves`} {
		err := s.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
			_, err := s.AddEvent(ctx, event.Event{Code: event.ImportRefused, Workspace: w.ID, Says: words, Data: event.Data{Words: words}})
			return err
		})
		if err != nil {
			t.Errorf("%q: %v", words, err)
		}
	}
	told, err := s.ToldSince(ctx, event.ImportRefused, 1<<40)
	if want := []string{"550 no\ufffd such user", "550 С\ufffd", `550 the words \u0000 themselves`}; err != nil || len(told) != 3 || told[0] != want[0] || told[1] != want[1] || told[2] != want[2] {
		t.Errorf("%q, %v", told, err)
	}
	if err := s.OwnLanes(ctx, []string{"willow.example", "wil\x00low.example"}); err != nil {
		t.Errorf("among several: %v", err)
	}
	if _, err := s.Policy(ctx, w.ID, "care\x00ful", 0); err != store.ErrNotFound {
		t.Errorf("asked for an invalid name: %v", err)
	}
	// As a program may send it: a lone surrogate, and NUL, as JSON escapes them.
	raw := json.RawMessage(`{"words": "a\ud83cb\u0000c", "n": 12345678901234567890}`)
	var kept string
	if err := s.Pool().QueryRow(ctx, "SELECT ($1::jsonb)::text", struct{ Raw json.RawMessage }{raw}).Scan(&kept); err != nil || kept != "{\"Raw\": {\"n\": 12345678901234567890, \"words\": \"a\ufffdb\ufffdc\"}}" {
		t.Errorf("%s, %v", kept, err)
	}
}
