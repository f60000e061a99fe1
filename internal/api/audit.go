package api

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/say"
	"varnet/internal/account"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// unaudited are operations that change nothing although they are not a GET, or that happen too
// often to be told and are told by others (parts of an upload by its import).
var unaudited = map[string]bool{"preview-file": true, "open-upload": true, "upload-part": true, "draft-run": true, "make-estimate": true, "try-policy": true, "try-catalogue": true, "try-rules": true,
	"find-result": true, "check-addresses": true, "check-form": true, "check-address": true, "ask-passkey": true, "look-at-invitation": true, "look-at-device": true, "ask-in": true,
	"draft-second-factor": true, "draft-passkey": true, "enter-workspace": true, "draft-write-back": true, "try-recipe": true, "try-connection": true, "preview-trial-letter": true, "call-bounce-source": true, "get-price": true, "call-payment": true}

// leaving are operations by which addresses leave the service: that they were begun is written
// down before, since it cannot be taken back.
var leaving = map[string]bool{"export-rows": true, "export-mailing": true, "get-list-problems": true, "export-audit": true, "make-workshop-file": true, "write-rights-file": true, "export-workspace": true}

// auditNote is what an operation adds to its entry of the audit trail.
type auditNote struct {
	person                 int64
	address, thing, detail string
	refused                bool // although the answer leads on
	silent                 bool // nothing was done that is to be told
}

type noteKey struct{}

// noteOf is the note of a request, which goes nowhere outside of one.
func noteOf(ctx context.Context) *auditNote {
	if n, ok := ctx.Value(noteKey{}).(*auditNote); ok {
		return n
	}
	return &auditNote{}
}

// told reports whether an operation is in the audit trail.
func told(op *huma.Operation) bool {
	return leaving[op.OperationID] || op.OperationID == "come-from-provider" || op.Method != http.MethodGet && !unaudited[op.OperationID]
}

// audited writes down what was done, by whom, on what. What was refused is written down where
// somebody was not who they said, or may not do it.
func (a *API) audited(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		op := ctx.Operation()
		if !told(op) {
			next(ctx)
			return
		}
		note := &auditNote{}
		ctx = huma.WithValue(ctx, noteKey{}, note)
		c, _ := ctx.Context().Value(callerKey{}).(account.Caller)
		if leaving[op.OperationID] {
			if err := a.writeAudit(ctx, c, note, account.BegunResult); err != nil {
				a.log.Error("the audit trail could not be written", "err", err)
				_ = huma.WriteErr(h, ctx, http.StatusServiceUnavailable, "The database does not answer. Nothing was exported; try again in a moment.")
				return
			}
			next(ctx)
			return
		}
		next(ctx)
		result := resultOf(ctx.Status(), note)
		if result == "" {
			return
		}
		if err := a.writeAudit(ctx, c, note, result); err != nil {
			a.log.Error("the audit trail could not be written", "err", err)
		}
	}
}

// resultOf is what is written down of an answer; "" for nothing.
func resultOf(status int, note *auditNote) string {
	switch {
	case note.silent:
		return ""
	case status == http.StatusUnauthorized || status == http.StatusForbidden || note.refused:
		return "refused"
	case status < http.StatusBadRequest:
		return account.DoneResult
	}
	return ""
}

// auditRefused writes down that somebody may not do what they wanted to.
func (a *API) auditRefused(ctx huma.Context, c account.Caller) {
	if !told(ctx.Operation()) {
		return
	}
	if err := a.writeAudit(ctx, c, &auditNote{}, "refused"); err != nil {
		a.log.Error("the audit trail could not be written", "err", err)
	}
}

// auditTime bounds the writing of an entry, whatever became of the request.
const auditTime = 5 * time.Second

func (a *API) writeAudit(ctx huma.Context, c account.Caller, note *auditNote, result string) error {
	op := ctx.Operation()
	e := account.Entry{Action: op.OperationID, Thing: thingOf(op, ctx.URL().Path), Address: note.address, Result: result}.By(c, addressOf(ctx.RemoteAddr()))
	if wanted[op.OperationID] == account.Installation {
		e.Workspace = 0 // it is of the installation, not of the workspace that somebody is in
	}
	if note.person != 0 {
		e.Person = note.person
	}
	if note.thing != "" {
		e.Thing = note.thing
	}
	e.Detail = note.detail
	done, cancel := context.WithTimeout(context.WithoutCancel(ctx.Context()), auditTime)
	defer cancel()
	return account.Audit(done, a.store, e)
}

// thingOf is the thing that a path names: lists/12 of /api/v1/lists/12/runs. Names that people
// chose are not in the trail.
func thingOf(op *huma.Operation, path string) string {
	if !strings.Contains(op.Path, "{id}") {
		return ""
	}
	pattern, parts := strings.Split(strings.Trim(op.Path, "/"), "/"), strings.Split(strings.Trim(strings.TrimPrefix(path, "/api/v1"), "/"), "/")
	for i, p := range pattern {
		if p == "{id}" && i > 0 && i < len(parts) {
			return parts[i-1] + "/" + parts[i]
		}
	}
	return ""
}

func (a *API) registerAudit(h huma.API) {
	huma.Register(h, operation("get-audit", http.MethodGet, "/audit", "The audit trail of the workspace, the latest first"), a.audit)
	file := operation("export-audit", http.MethodGet, "/audit/file", "The audit trail of the workspace as JSON lines, the oldest first")
	file.Responses = fileResponse("application/jsonl")
	huma.Register(h, file, a.exportAudit)
	huma.Register(h, operation("get-installation-audit", http.MethodGet, "/installation/audit", "What happened outside of all workspaces, the latest first"), a.installationAudit)
	huma.Register(h, operation("verify-audit", http.MethodGet, "/installation/audit/verification", "Hold every entry of the audit trail against its hash"), a.verifyAudit)
}

// AuditQuery chooses entries.
type AuditQuery struct {
	Person int64     `query:"person" minimum:"1" doc:"Only what this person did."`
	Action string    `query:"action" maxLength:"60" doc:"Only this operation."`
	From   time.Time `query:"from" doc:"Only from this moment on."`
	To     time.Time `query:"to" doc:"Only before this moment."`
}

func (q AuditQuery) filter() store.AuditFilter {
	f := store.AuditFilter{Action: q.Action, From: q.From, To: q.To}
	if q.Person > 0 {
		f.Person = &q.Person
	}
	return f
}

type auditInput struct {
	Cursor
	Limit
	AuditQuery
}

func (a *API) audit(ctx context.Context, in *auditInput) (*pageOutput[contract.AuditEntry], error) {
	f := in.filter()
	f.Workspace = unlessZero(callerOf(ctx).WorkspaceID)
	return a.auditPage(ctx, in, f)
}

func (a *API) installationAudit(ctx context.Context, in *auditInput) (*pageOutput[contract.AuditEntry], error) {
	f := in.filter()
	f.Outside = true
	return a.auditPage(ctx, in, f)
}

func (a *API) auditPage(ctx context.Context, in *auditInput, f store.AuditFilter) (*pageOutput[contract.AuditEntry], error) {
	if err := in.place(&f.Before); err != nil {
		return nil, err
	}
	found, err := a.store.Audit(ctx, f, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := make([]contract.AuditEntry, len(found))
	var people, keys []int64
	for i, k := range found {
		if out[i], err = entryOf(k); err != nil {
			return nil, a.failed(ctx, err)
		}
		people, keys = append(people, out[i].PersonID), append(keys, out[i].KeyID)
	}
	keyNames, err := a.store.KeyNames(ctx, keys)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	names, err := a.store.PersonNames(ctx, people)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	for i := range out {
		out[i].Person, out[i].Key = names[out[i].PersonID], keyNames[out[i].KeyID]
		out[i].Says = a.saysOf(out[i].Action)
	}
	return pageOf(out, in.Limit.Limit, func(e contract.AuditEntry) any { return e.Seq }), nil
}

// entryOf is an entry as the contract has it.
func entryOf(k store.AuditEntry) (contract.AuditEntry, error) {
	e, err := account.ReadEntry(k)
	return contract.AuditEntry{Seq: k.Seq, At: time.UnixMicro(e.At).UTC(), PersonID: e.Person, KeyID: e.Key, Job: e.Job, From: e.From, Action: e.Action, Thing: e.Thing,
		Address: e.Address, Result: e.Result, Detail: e.Detail, Hash: hex.EncodeToString(k.Hash)}, err
}

// saysOf says an action in words: those of the operation, or of the job.
func (a *API) saysOf(action string) string {
	if says, ok := a.operations[action]; ok {
		return says
	}
	return map[string]string{"forget-audit": "Delete entries of the audit trail whose retention has ended", "throttle": "Let a network or an account rest after too many tries"}[action]
}

func (a *API) exportAudit(ctx context.Context, in *AuditQuery) (*huma.StreamResponse, error) {
	f := in.filter()
	f.Workspace = unlessZero(callerOf(ctx).WorkspaceID)
	return a.stream(download{name: "audit.jsonl", kind: "application/jsonl", write: func(w io.Writer) error {
		lines := json.NewEncoder(w)
		return a.store.EachAudit(ctx, f, func(k store.AuditEntry) error {
			e, err := entryOf(k)
			if err != nil {
				return err
			}
			e.Says = a.saysOf(e.Action)
			return lines.Encode(e)
		})
	}}), nil
}

func (a *API) verifyAudit(ctx context.Context, _ *struct{}) (*struct{ Body contract.AuditVerification }, error) {
	v, err := account.VerifyAudit(ctx, a.store)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := contract.AuditVerification{Entries: v.Entries, First: v.First, Last: v.Last, Hash: v.Hash, Broken: v.Broken}
	b.Says = fmt.Sprintf("All %s entries are as they were written.", say.Number(v.Entries))
	if v.Broken != 0 {
		b.Says = fmt.Sprintf("Entry %d is not as it was written: %s. What comes before it holds.", v.Broken, v.Why)
	}
	return &struct{ Body contract.AuditVerification }{b}, nil
}
