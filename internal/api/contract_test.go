package api

import (
	"bytes"
	"os"
	"testing"
)

// TestContractIsCurrent holds the contract that the console's types are made
// from against the service's own.
func TestContractIsCurrent(t *testing.T) {
	want, err := Contract()
	if err != nil {
		t.Fatal(err)
	}
	have, err := os.ReadFile("../../web/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(bytes.TrimSpace(have), bytes.TrimSpace(want)) {
		t.Error("web/openapi.json is behind; make it anew: bin/varnet contract > web/openapi.json && npm --prefix web run types")
	}
}
