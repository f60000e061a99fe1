package api

import (
	"fmt"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/account"
)

// wants tells which scope every operation wants. Two are not scopes: anyone, of those that
// anybody may call who is on the way in, and caller, of those that everybody may who is in.
var wants = map[account.Scope][]string{
	account.Read: {"get-lists", "get-list", "get-list-rows", "count-common", "get-estimate", "get-retention", "get-runs", "get-run", "watch-run", "compare-runs",
		"get-run-domains", "get-result-ages", "get-run-operators", "get-report", "get-results", "get-evidence", "find-result", "count-matching", "describe-filter", "preview-export",
		"get-policies", "get-policy", "try-policy", "get-catalogue", "get-shipped-catalogue", "get-catalogue-sources", "try-catalogue",
		"watch-workspace", "get-events", "get-routines", "get-routine", "get-routine-times", "draft-routine", "get-connections", "get-connection", "get-imports", "get-import", "get-write-backs", "get-write-back", "get-write-back-items", "try-recipe", "get-readiness", "get-keys", "get-team", "get-own-rules",
		"get-trial-sender", "preview-trial-letter", "forecast-trial-letters",
		"get-mailings", "get-mailing", "get-mailing-letters", "get-bounces", "get-outcomes",
		"get-workshop-jobs", "get-workshop-job", "get-step-recipes", "get-term-lists", "get-list-domains", "get-list-columns", "get-list-known", "get-odds", "get-column-meanings", "get-list-activity", "get-opinions", "get-opinion-rows",
		"get-allowance", "get-usage", "get-usage-file", "get-statement", "get-statement-file", "get-price"},
	account.Import: {"end-guide", "get-collections", "begin-import", "preview-file", "import-list", "import-newer-file", "open-upload", "upload-part", "change-list", "delete-list",
		"begin-workshop-job", "end-workshop-job", "save-step-recipe", "delete-step-recipe", "save-term-list", "delete-term-list", "set-column-meanings", "import-activity", "set-opinion-meaning"},
	account.Run: {"draft-run", "start-run", "begin-run", "pause-run", "resume-run", "stop-run", "ask-again", "make-estimate", "override-addresses", "override-matching",
		"order-trial-letters", "stop-trial-letters",
		"register-mailing", "import-mailing", "send-mailing", "delete-mailing", "import-bounces", "import-outcomes", "forget-outcome",
		"choose-policy", "run-routine", "decide-routine-time", "make-routine", "change-routine", "delete-routine"},
	account.Export: {"make-link", "get-links", "delete-link", "draft-write-back", "begin-write-back", "undo-write-back", "export-rows", "export-mailing", "get-list-problems", "make-workshop-file"},
	account.Check:  {"check-addresses", "check-address"},
	account.Manage: {"set-trial-sender", "test-trial-sender", "get-bounce-sources", "make-bounce-source", "change-bounce-source", "delete-bounce-source", "read-bounce-source",
		"make-connection", "try-connection", "change-connection", "delete-connection", "test-connection", "go-to-place", "come-from-place",
		"set-retention", "share-outcomes", "save-policy", "delete-policy", "add-to-catalogue", "delete-from-catalogue", "follow-catalogue", "read-catalogue-source",
		"unfollow-catalogue", "set-own-rules", "make-key", "rotate-key", "delete-key", "get-webhooks", "make-webhook", "change-webhook", "delete-webhook", "renew-webhook-secret", "test-webhook",
		"get-deliveries", "get-delivery", "resend-delivery", "get-audit", "export-audit",
		"set-allowance", "forget-method", "buy-checks", "get-purchases", "get-purchase", "get-invoice",
		"look-at-address", "write-rights-file", "make-request", "get-requests", "get-request"},
	account.Form: {"check-form"},
	account.Team: {"allow-trial-letters", "change-team", "change-role", "remove-member", "invite", "take-invitation-back", "hand-over", "delete-workspace", "keep-workspace", "export-workspace"},
	account.Installation: {"get-outbound", "test-outbound", "add-parts", "remove-part", "remove-failed", "set-outbound", "set-rules", "try-rules", "get-operators", "forget-operator",
		"get-workers", "drain-worker", "get-health", "get-letter-settings", "set-letter-server", "remove-letter-server", "test-letter-server",
		"get-installation", "change-installation", "limit-workspace", "get-installation-audit", "verify-audit",
		"get-accounts", "set-account-plan", "grant-checks", "get-plans", "make-plan", "change-plan", "delete-plan", "get-billing", "set-billing", "get-all-purchases", "pay-back-purchase", "verify-ledger"},
	account.Self: {"sign-out", "confirm", "send-confirmation-code", "enter-workspace", "make-workspace", "leave-team", "get-person", "rename-person", "set-password",
		"move-address", "confirm-address", "draft-second-factor", "set-second-factor", "remove-second-factor", "make-recovery-codes", "draft-passkey", "add-passkey",
		"remove-passkey", "end-session", "sign-out-everywhere", "accept-invitation", "look-at-device", "answer-device", "get-notices", "read-notices", "get-letter-wishes", "set-letter-wishes"},
	caller: {"get-session", "get-glossary", "get-event-kinds", "get-connection-kinds"},
	anyone: {"get-ways-in", "sign-in", "send-sign-in-code", "enter-code", "enter-second-factor", "send-forgotten-code", "reset-password", "ask-passkey", "sign-in-by-passkey",
		"go-to-provider", "come-from-provider", "sign-in-to-demo", "sign-up", "begin-installation", "look-at-invitation", "join-by-invitation", "decline-invitation",
		"ask-in", "await-device", "follow-link", "call-bounce-source", "call-payment"},
}

const (
	caller account.Scope = "caller"
	anyone account.Scope = "anyone"
)

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
// is not in the table is let through for nobody.
func lacks(c account.Caller, operation string) string {
	scope, known := wanted[operation]
	switch {
	case known && (scope == caller || c.May(scope)):
		return ""
	case !known:
		return "Nobody may do this."
	case c.KeyID != 0:
		return fmt.Sprintf("Your key does not have the scope “%s”, which this needs. Ask for a key that may %s.", scope, scope.Says())
	case scope == account.Installation:
		return "This is for owners of the installation."
	case c.WorkspaceID == 0:
		return "You are in no workspace. Make one, or ask to be invited to one."
	case c.Demanded:
		return "This workspace demands a second factor. Set one up on the page of your account, and go on."
	}
	return fmt.Sprintf("You are a %s of this workspace, and this is for a %s: to %s.", c.Role, account.LeastRole(scope), scope.Says())
}

// secure has the contract tell which scope each operation wants, and which role has it.
func secure(doc *huma.OpenAPI) {
	for _, item := range doc.Paths {
		for _, op := range operationsOf(item) {
			scope := wanted[op.OperationID]
			switch scope {
			case anyone:
				op.Security = []map[string][]string{}
				continue
			case "", caller:
				continue
			case account.Self, account.Team: // of persons alone
				op.Security = []map[string][]string{{"session": {}}}
			}
			op.Extensions = map[string]any{"x-scope": string(scope)}
			if r := account.LeastRole(scope); r != "" {
				op.Extensions["x-role"] = string(r)
			}
		}
	}
}

// addressOf returns the address of whoever sends a request.
func addressOf(remote string) netip.Addr {
	if at, err := netip.ParseAddrPort(remote); err == nil {
		return at.Addr().Unmap()
	}
	return netip.IPv4Unspecified()
}
