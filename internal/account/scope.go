// Package account holds what persons and programs may do, and the secrets by which they are
// known. It keeps nothing.
package account

import (
	"fmt"
	"slices"
	"strings"
)

// Scope is a part of what can be done in a workspace. Every operation wants one.
type Scope string

// The scopes.
const (
	Read   Scope = "read"
	Import Scope = "import"
	Run    Scope = "run"
	Export Scope = "export"
	Check  Scope = "check"
	Manage Scope = "manage"
)

// Scopes returns all scopes.
func Scopes() []Scope { return []Scope{Read, Import, Run, Export, Check, Manage} }

// Says returns what a scope lets do.
func (s Scope) Says() string {
	return map[Scope]string{
		Read:   "look at lists, runs, results and settings",
		Import: "import lists, change and delete them",
		Run:    "start and steer runs, override decisions",
		Export: "export addresses",
		Check:  "check single addresses",
		Manage: "change policies, catalogues, outbound, letters, workers, keys and retention",
	}[s]
}

// ReadScopes reads scopes by their names, each once and in order. None at all, and one that
// there is not, are errors.
func ReadScopes(names []string) ([]Scope, error) {
	var out []Scope
	for _, s := range Scopes() {
		if slices.Contains(names, string(s)) {
			out = append(out, s)
		}
	}
	for _, n := range names {
		if !slices.Contains(Scopes(), Scope(n)) {
			return nil, fmt.Errorf("there is no scope %q; there are: %s", n, strings.Join(Names(Scopes()), ", "))
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("name at least one scope of: %s", strings.Join(Names(Scopes()), ", "))
	}
	return out, nil
}

// Names returns the names of scopes.
func Names(scopes []Scope) []string {
	out := make([]string, len(scopes))
	for i, s := range scopes {
		out[i] = string(s)
	}
	return out
}
