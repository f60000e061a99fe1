package account

import (
	"fmt"
	"slices"
	"strings"
)

// Scope is a part of what can be done. Every operation wants one.
type Scope string

// The scopes that keys may have.
const (
	Read         Scope = "read"
	Import       Scope = "import"
	Run          Scope = "run"
	Export       Scope = "export"
	Check        Scope = "check"
	Manage       Scope = "manage"
	Form         Scope = "form"
	Installation Scope = "installation"
)

// The scopes of persons alone: no key has them.
const (
	Team Scope = "team" // members and the workspace itself; an owner's
	Self Scope = "self" // one's own account; everybody's who is signed in
)

// Scopes returns all scopes that keys may have.
func Scopes() []Scope { return []Scope{Read, Import, Run, Export, Check, Manage, Form, Installation} }

// Says returns what a scope lets do.
func (s Scope) Says() string {
	return map[Scope]string{
		Read:         "look at lists, runs, results and settings",
		Import:       "import lists, change and delete them",
		Run:          "start and steer runs, override decisions",
		Export:       "export addresses",
		Check:        "check single addresses",
		Manage:       "change policies, catalogues, rules, keys and retention",
		Form:         "ask from public forms",
		Installation: "manage outbound, letters, workers and all workspaces",
		Team:         "invite, change and remove members, change and delete the workspace",
		Self:         "change their own account",
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

// Names returns the names of scopes, or of roles.
func Names[T Scope | Role](of []T) []string {
	out := make([]string, len(of))
	for i, s := range of {
		out[i] = string(s)
	}
	return out
}
