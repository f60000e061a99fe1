package api

import (
	"fmt"
	"net/http"
	"net/netip"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/account"
	"varnet/internal/store"
)

// wants tells which scope every operation wants; "" stands for those that want none.
var wants = map[account.Scope][]string{
	account.Read: {"get-lists", "get-list", "get-list-rows", "count-common", "get-estimate", "get-retention", "get-runs", "get-run", "watch-run", "compare-runs",
		"get-run-domains", "get-run-operators", "get-report", "get-results", "get-evidence", "find-result", "count-matching", "describe-filter", "preview-export",
		"get-policies", "get-policy", "try-policy", "get-catalogue", "get-shipped-catalogue", "get-catalogue-sources", "try-catalogue", "get-glossary", "get-health",
		"get-workers", "watch-workspace", "get-outbound", "get-readiness", "get-operators", "try-rules", "get-keys", "get-letter-settings"},
	account.Import: {"preview-file", "import-list", "import-newer-file", "open-upload", "upload-part", "change-list", "delete-list"},
	account.Run: {"draft-run", "start-run", "begin-run", "pause-run", "resume-run", "stop-run", "ask-again", "make-estimate", "override-addresses", "override-matching",
		"choose-policy"},
	account.Export: {"export-rows", "get-list-problems"},
	account.Check:  {"check-addresses", "check-address"},
	account.Manage: {"set-retention", "save-policy", "delete-policy", "add-to-catalogue", "delete-from-catalogue", "follow-catalogue", "read-catalogue-source",
		"unfollow-catalogue", "test-outbound", "add-parts", "remove-part", "remove-failed", "set-outbound", "set-rules", "forget-operator", "make-key", "rotate-key",
		"delete-key", "drain-worker", "set-letter-server", "remove-letter-server", "test-letter-server"},
	"": {"get-session", "sign-in", "sign-out"},
}

// wanted is wants by the operation.
var wanted = func() map[string]account.Scope {
	out := map[string]account.Scope{}
	for scope, operations := range wants {
		for _, o := range operations {
			out[o] = scope
		}
	}
	return out
}()

// lacks says what somebody lacks who calls an operation; "" when nothing. An operation that
// is not in the table is let through by no key.
func lacks(w store.Workspace, operation string) string {
	scope, known := wanted[operation]
	if known && (scope == "" || slices.Contains(w.Scopes, string(scope))) {
		return ""
	}
	return fmt.Sprintf("Your key does not have the scope “%s”, which this needs. Ask for a key that may %s.", scope, scope.Says())
}

// secure has the contract tell which scope each operation wants.
func secure(doc *huma.OpenAPI) {
	for _, item := range doc.Paths {
		for _, op := range operationsOf(item) {
			if scope := wanted[op.OperationID]; scope != "" {
				op.Extensions = map[string]any{"x-scope": string(scope)}
			}
		}
	}
}

// keepersOperation describes operations on what is the installation's, such as routes and
// letters: they let only the workspace pass that looks after it.
func (a *API) keepersOperation(h huma.API) func(id, method, path, summary string) huma.Operation {
	only := func(ctx huma.Context, next func(huma.Context)) {
		if !workspace(ctx.Context()).Keeper {
			_ = huma.WriteErr(h, ctx, http.StatusForbidden, "The installation is looked after by another workspace, and this is its alone.")
			return
		}
		next(ctx)
	}
	return func(id, method, path, summary string) huma.Operation {
		o := operation(id, method, path, summary)
		o.Middlewares = huma.Middlewares{only}
		return o
	}
}

// addressOf returns the address of whoever sends a request.
func addressOf(remote string) netip.Addr {
	if at, err := netip.ParseAddrPort(remote); err == nil {
		return at.Addr().Unmap()
	}
	return netip.IPv4Unspecified()
}
