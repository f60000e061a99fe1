package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/problem"
	"varnet/internal/connect"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/export"
	"varnet/internal/store"
	"varnet/internal/store/pack"
	"varnet/internal/work"
	"varnet/internal/writeback"
)

func (a *API) registerWriteBacks(h huma.API) {
	huma.Register(h, operation("draft-write-back", http.MethodPost, "/runs/{id}/write-backs/draft", "What a write-back would do; nothing is written"), a.draftWriteBack)
	huma.Register(h, creates(operation("begin-write-back", http.MethodPost, "/runs/{id}/write-backs", "Write decisions back to where the contacts came from")), a.beginWriteBack)
	huma.Register(h, operation("get-write-backs", http.MethodGet, "/write-backs", "The newest write-backs, of a run or of a connection"), a.writeBacks)
	huma.Register(h, operation("get-write-back", http.MethodGet, "/write-backs/{id}", "One write-back"), a.writeBack)
	huma.Register(h, operation("get-write-back-items", http.MethodGet, "/write-backs/{id}/items", "The journal of a write-back"), a.writeBackItems)
	huma.Register(h, operation("undo-write-back", http.MethodPost, "/write-backs/{id}/undo", "Restore what the contacts had before"), a.undoWriteBack)
}

func specOf(s contract.WriteBackSpec) pack.WriteBackSpec {
	return pack.WriteBackSpec{Steps: contract.Each(s.Steps, func(s contract.WriteBackStep) pack.WriteBackStep { return pack.WriteBackStep(s) })}
}

var itemStates = []string{"open", "begun", "done", "skipped", "failed", "undone", "left"}

func itemBody(i store.WriteItem) contract.WriteBackItem {
	return contract.WriteBackItem{Step: i.Step, Number: i.Number, Key: i.Key, Addresses: append([]string{}, connect.InColumns(i.Addresses)...), Value: i.Value, State: itemStates[i.State], Had: i.Had, Why: i.Why}
}

func (a *API) writeBackBody(ctx context.Context, b store.WriteBack) (contract.WriteBack, error) {
	out := contract.WriteBack{ID: b.ID, RunID: b.RunID, ConnectionID: b.ConnectionID, State: b.State, Says: b.Says, Counts: []contract.WriteBackItems{}, By: b.ByWhom, BegunAt: b.BegunAt, EndedAt: b.EndedAt,
		Spec: contract.WriteBackSpec{Steps: contract.Each(b.Spec.Steps, func(s pack.WriteBackStep) contract.WriteBackStep { return contract.WriteBackStep(s) })}}
	counts, err := a.store.ItemCounts(ctx, b.ID)
	for _, c := range counts {
		out.Counts = append(out.Counts, contract.WriteBackItems{Step: c.Step, State: itemStates[c.State], Items: c.Items})
		out.CanUndo = out.CanUndo || c.State == store.ItemDone && (b.State == store.WriteDone || b.State == store.WriteFailed)
	}
	if b.EndedAt == nil && len(counts) > 0 {
		out.Says = work.WriteBackProgress(counts)
	}
	return out, err
}

// planned is a write-back that a person wants, and what it would do.
type planned struct {
	b     store.WriteBack
	draft contract.WriteBackDraft
}

// plan settles where a write-back goes, and counts what it would do.
func (a *API) plan(ctx context.Context, run int64, in contract.NewWriteBack, first int) (p planned, err error) {
	w := workspace(ctx).ID
	r, l, err := a.runAndList(ctx, run)
	if err != nil {
		return p, a.failed(ctx, err)
	}
	p.b = store.WriteBack{WorkspaceID: w, RunID: r.ID, Collection: l.Collection, Spec: specOf(in.WriteBackSpec), ConnectionID: in.ConnectionID}
	if p.b.ConnectionID == 0 {
		if l.ConnectionID == nil {
			return p, huma.Error409Conflict("The list came from a file, and there is nowhere to write back to. Name a connection for files, or import the list from a connection.")
		}
		p.b.ConnectionID = *l.ConnectionID
	}
	c, place, err := a.at(ctx, p.b.ConnectionID)
	if err != nil {
		return p, err
	}
	defer place.Close()
	_, files := place.(connect.FilePlace)
	if !files && (l.ConnectionID == nil || *l.ConnectionID != c.ID) {
		return p, huma.Error409Conflict(fmt.Sprintf("The contacts of the list did not come from “%s”, and cannot be found there.", c.Name))
	}
	var wrong *problem.Field
	if err := writeback.Check(p.b.Spec, place.Takes()); errors.As(err, &wrong) {
		return p, huma.Error422UnprocessableEntity("This write-back will not work: "+wrong.Why+".", &huma.ErrorDetail{Location: "body." + wrong.Name, Message: wrong.Why})
	}
	d, err := decide.New(ctx, a.store, r, l, r.Policy)
	if err != nil {
		return p, a.failed(ctx, err)
	}
	if files {
		p.draft, err = a.fileDraft(ctx, d, p.b.Spec)
	} else {
		p.draft, err = a.contactDraft(ctx, d, p.b.Spec, l.Name, connect.CollectionKind(place), first)
	}
	p.draft.Tag = decide.Fingerprint(r.ID, c.ID, p.b.Spec, p.draft.Says, r.Policy, d.State())
	return p, err
}

func (a *API) contactDraft(ctx context.Context, d *decide.Decider, spec pack.WriteBackSpec, from, kind string, first int) (out contract.WriteBackDraft, err error) {
	counted, err := writeback.Count(ctx, a.store, d, spec, first)
	if err != nil {
		return out, a.failed(ctx, err)
	}
	for i, s := range counted.Steps {
		out.Says = append(out.Says, writeback.Says(spec.Steps[i], s, kind, from))
		out.Steps = append(out.Steps, contract.WriteBackStepDraft{Contacts: s.Contacts, First: append([]contract.WriteBackItem{}, contract.Each(s.First, itemBody)...)})
	}
	return out, nil
}

func (a *API) fileDraft(ctx context.Context, d *decide.Decider, spec pack.WriteBackSpec) (out contract.WriteBackDraft, err error) {
	for _, s := range spec.Steps {
		x, err := export.New(ctx, a.store, d, contract.ExportChoice{Decision: writeback.Exported(s), Form: "rows", Format: "original"})
		if err != nil {
			return out, a.failed(ctx, err)
		}
		t, err := x.Tally(ctx, &a.summaries.Counted)
		if err != nil {
			return out, a.failed(ctx, err)
		}
		n := x.Rows(t)
		out.Says = append(out.Says, writeback.Says(s, writeback.StepPlan{Contacts: n}, "", ""))
		out.Steps = append(out.Steps, contract.WriteBackStepDraft{Contacts: n, First: []contract.WriteBackItem{}})
	}
	return out, nil
}

func (a *API) draftWriteBack(ctx context.Context, in *struct {
	ByID
	First int `query:"first" minimum:"0" maximum:"50" default:"10" doc:"How many of the first contacts of each step to show."`
	Body  contract.NewWriteBack
}) (*struct{ Body contract.WriteBackDraft }, error) {
	p, err := a.plan(ctx, in.ID, in.Body, in.First)
	if err != nil {
		return nil, err
	}
	return &struct{ Body contract.WriteBackDraft }{p.draft}, nil
}

func (a *API) beginWriteBack(ctx context.Context, in *struct {
	ByID
	Body contract.NewWriteBack
}) (*made[contract.WriteBack], error) {
	p, err := a.plan(ctx, in.ID, in.Body, 0)
	if err != nil {
		return nil, err
	}
	if in.Body.Tag != p.draft.Tag {
		return nil, huma.Error409Conflict("This write-back would do something else than the draft that was seen, or none was. Draft it again (POST /runs/{id}/write-backs/draft), and send its tag.")
	}
	p.b.ByWhom = whose(ctx)
	for _, s := range p.draft.Steps {
		p.b.Planned = append(p.b.Planned, s.Contacts)
	}
	if err := a.engine.WriteBack(ctx, &p.b); err != nil {
		return nil, a.failed(ctx, err)
	}
	if err := a.store.EndGuide(ctx, workspace(ctx).ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.writeBackBody(ctx, p.b)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &made[contract.WriteBack]{fmt.Sprintf("/api/v1/write-backs/%d", p.b.ID), out}, nil
}

// whose is who a caller is, as they are called beside what they began.
func whose(ctx context.Context) string {
	if c := callerOf(ctx); c.Name != "" {
		return c.Name
	} else {
		return "The key “" + c.KeyName + "”"
	}
}

// writeBacksShown is how many write-backs are shown.
const writeBacksShown = 50

func (a *API) writeBacks(ctx context.Context, in *struct {
	Run        int64 `query:"run" minimum:"0" doc:"Only those of a run."`
	Connection int64 `query:"connection" minimum:"0" doc:"Only those of a connection."`
}) (*pageOutput[contract.WriteBack], error) {
	found, err := a.store.WriteBacks(ctx, workspace(ctx).ID, in.Run, in.Connection, writeBacksShown)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := []contract.WriteBack{}
	for _, b := range found {
		body, err := a.writeBackBody(ctx, b)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		out = append(out, body)
	}
	return whole(out), nil
}

type writeBackOutput struct{ Body contract.WriteBack }

func (a *API) writeBack(ctx context.Context, in *ByID) (*writeBackOutput, error) {
	b, err := a.store.WriteBack(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.writeBackBody(ctx, b)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &writeBackOutput{out}, nil
}

func (a *API) writeBackItems(ctx context.Context, in *struct {
	ByID
	Cursor
	Limit
	State []string `query:"state" maxItems:"7" enum:"open,begun,done,skipped,failed,undone,left" doc:"Only items in these states."`
}) (*pageOutput[contract.WriteBackItem], error) {
	var after struct{ Step, Number int }
	if err := in.place(&after); err != nil {
		return nil, err
	}
	b, err := a.store.WriteBack(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	var states []store.ItemState
	for i, name := range itemStates {
		for _, s := range in.State {
			if s == name {
				states = append(states, store.ItemState(i))
			}
		}
	}
	found, err := a.store.Items(ctx, b.ID, states, after.Step, after.Number, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(contract.Each(found, itemBody), in.Limit.Limit, func(i contract.WriteBackItem) any { return struct{ Step, Number int }{i.Step, i.Number} }), nil
}

func (a *API) undoWriteBack(ctx context.Context, in *ByID) (*writeBackOutput, error) {
	b, err := a.store.WriteBack(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if err := a.engine.Undo(ctx, b); errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error409Conflict(fmt.Sprintf("This write-back is %s, and cannot be undone now.", b.State))
	} else if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.writeBack(ctx, in)
}
