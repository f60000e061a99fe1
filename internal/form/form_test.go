package form

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"time"

	"varnet/core/address"
	"varnet/internal/giveway"
	"varnet/internal/store"
)

// TestVisitorLeft: what a visitor asked for goes before runs, as a click does, and on when they have
// left the page.
func TestVisitorLeft(t *testing.T) {
	ctx, leave := context.WithCancel(t.Context())
	ctx, answered := giveway.New().Attend(ctx)
	left := make(chan struct{})
	d := &Desk{Log: slog.New(slog.DiscardHandler), Now: time.Now, Check: func(ctx context.Context, _ int64, _ store.By, _ address.Address) (Checked, error) {
		<-left
		if ctx.Err() != nil || !giveway.Attended(ctx) {
			t.Errorf("the check ended with the visitor (%v), or gives way: %v", ctx.Err(), !giveway.Attended(ctx))
		}
		return Checked{}, errors.New("enough for a test")
	}}
	a, err := address.Grammar{}.Parse("ada.moss@fernhollow.example")
	if err != nil {
		t.Fatal(err)
	}
	going := d.begin(ctx, Question{}, a, []byte("print"))
	if again := d.begin(ctx, Question{}, a, []byte("print")); again != going {
		t.Error("the same address is checked twice at once")
	}
	leave()
	answered()
	close(left)
	<-going.done
}
