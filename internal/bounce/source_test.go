package bounce

import (
	"strings"
	"testing"

	"varnet/core/problem"
	"varnet/internal/store"
)

// TestPrivateMailbox: a mailbox that somebody typed in is not looked for in our own network.
func TestPrivateMailbox(t *testing.T) {
	s := &Sources{}
	for _, host := range []string{"127.0.0.1", "10.0.0.1", "169.254.169.254", "::1"} {
		_, err := s.openMailbox(t.Context(), store.BounceSource{Host: host, Port: 143, Security: "none"})
		if err == nil || !strings.Contains(err.Error(), "not at a public address") {
			t.Errorf("%s: %v", host, err)
		}
	}
}

// TestCheckSource: what a source cannot be is named with its place.
func TestCheckSource(t *testing.T) {
	good := store.BounceSource{Kind: store.SourceMailbox, Name: "Returns", Host: "imap.fernhollow.example", Security: "tls", Username: "returns", Folder: "INBOX", Then: store.ThenFlag}
	if err := check(good); err != nil {
		t.Error(err)
	}
	for field, change := range map[string]func(*store.BounceSource){
		"name":       func(b *store.BounceSource) { b.Name = " " },
		"host":       func(b *store.BounceSource) { b.Host = "imap\r\nfernhollow" },
		"security":   func(b *store.BounceSource) { b.Security = "none" },
		"username":   func(b *store.BounceSource) { b.Username = "" },
		"thenFolder": func(b *store.BounceSource) { b.Then, b.ThenFolder = store.ThenMove, "INBOX" },
	} {
		b := good
		change(&b)
		if w, ok := check(b).(*problem.Field); !ok || w.Name != field {
			t.Errorf("%s: %v", field, check(b))
		}
	}
}
