package account

import "slices"

// Role is what a person is in a workspace.
type Role string

// The roles, each of which may do all that the next may.
const (
	Owner   Role = "owner"
	Manager Role = "manager"
	Member  Role = "member"
	Reader  Role = "reader"
)

// Roles returns all roles, the one that may do most first.
func Roles() []Role { return []Role{Owner, Manager, Member, Reader} }

// IsRole reports whether a text names a role.
func IsRole(text string) bool { return slices.Contains(Roles(), Role(text)) }

// Says returns what somebody with a role may do.
func (r Role) Says() string {
	return map[Role]string{
		Owner:   "everything, also members and deleting the workspace",
		Manager: "lists and runs, and rules of the workspace, policies, catalogues, keys and retention",
		Member:  "lists, runs, exports and checks",
		Reader:  "looks at lists, results and reports; exports only where the workspace allows it",
	}[r]
}

// Scopes returns what a role may do in a workspace; readers export where that allows it.
func (r Role) Scopes(readersExport bool) []Scope {
	switch r {
	case Owner:
		return []Scope{Read, Import, Run, Export, Check, Manage, Form, Team}
	case Manager:
		return []Scope{Read, Import, Run, Export, Check, Manage, Form}
	case Member:
		return []Scope{Read, Import, Run, Export, Check}
	case Reader:
		if readersExport {
			return []Scope{Read, Export}
		}
		return []Scope{Read}
	}
	return nil
}

// LeastRole returns the least role that has a scope; "" where none has.
func LeastRole(s Scope) Role {
	for _, r := range slices.Backward(Roles()) {
		if slices.Contains(r.Scopes(false), s) {
			return r
		}
	}
	return ""
}
