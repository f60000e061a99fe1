package api

import (
	"testing"

	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
)

// TestTables: every operation is in the table of scopes and in that of descriptions, once, and
// neither holds one that there is not.
func TestTables(t *testing.T) {
	h := humachi.New(chi.NewRouter(), configuration())
	(&API{}).register(h)
	scopes, descriptions := map[string]int{}, map[string]int{}
	for _, operations := range wants {
		for _, o := range operations {
			scopes[o]++
		}
	}
	for _, g := range groups() {
		for o := range g.operations {
			descriptions[o]++
		}
	}
	for _, item := range h.OpenAPI().Paths {
		for _, op := range operationsOf(item) {
			if scopes[op.OperationID] != 1 || descriptions[op.OperationID] != 1 {
				t.Errorf("%s has %d scopes and %d descriptions", op.OperationID, scopes[op.OperationID], descriptions[op.OperationID])
			}
			delete(scopes, op.OperationID)
			delete(descriptions, op.OperationID)
		}
	}
	if len(scopes)+len(descriptions) > 0 {
		t.Errorf("there are no such operations: %v, %v", scopes, descriptions)
	}
}
