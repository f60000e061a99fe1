package api

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/rights"
	"varnet/internal/store"
)

func (a *API) registerRights(h huma.API) {
	huma.Register(h, operation("look-at-address", http.MethodPost, "/requests/look", "All that the workspace holds about an address"), a.lookAtAddress)
	file := operation("write-rights-file", http.MethodPost, "/requests/file", "All that the workspace holds about an address, as a file for its person")
	file.Responses = fileResponse("application/json")
	huma.Register(h, file, a.rightsFile)
	huma.Register(h, creates(operation("make-request", http.MethodPost, "/requests", "Erase an address, or allow one again that was erased")), a.makeRequest)
	huma.Register(h, operation("get-requests", http.MethodGet, "/requests", "What persons asked for about their addresses, the latest first"), a.requests)
	huma.Register(h, operation("get-request", http.MethodGet, "/requests/{id}", "What a person asked for about their address, and how far it is"), a.request)
}

func (a *API) held(ctx context.Context, typed string) (contract.Held, error) {
	w := workspace(ctx)
	return a.engine.Rights.Look(ctx, w.ID, w.Name, typed)
}

func (a *API) lookAtAddress(ctx context.Context, in *struct{ Body contract.OneAddress }) (*struct{ Body contract.Held }, error) {
	held, err := a.held(ctx, in.Body.Address)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Held }{held}, nil
}

func (a *API) rightsFile(ctx context.Context, in *struct{ Body contract.RightsFile }) (*huma.StreamResponse, error) {
	held, err := a.held(ctx, in.Body.Address)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	held = rights.ForPerson(held)
	r, err := a.engine.Rights.Order(ctx, workspace(ctx).ID, in.Body.Address, store.RequestFile, whose(ctx), nil)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	noteOf(ctx).thing = fmt.Sprintf("requests/%d", r.ID)
	if in.Body.Format == "text" {
		return a.stream(download{kind: "text/plain; charset=utf-8", name: fmt.Sprintf("request-%d.txt", r.ID), write: func(w io.Writer) error {
			_, err := io.WriteString(w, rights.Text(held))
			return err
		}}), nil
	}
	return a.stream(download{kind: "application/json", name: fmt.Sprintf("request-%d.json", r.ID), write: func(w io.Writer) error {
		out := json.NewEncoder(w)
		out.SetIndent("", "  ")
		out.SetEscapeHTML(false) // a person reads it
		return out.Encode(held)
	}}), nil
}

func (a *API) makeRequest(ctx context.Context, in *struct{ Body contract.RightsOrder }) (*made[contract.RightsRequest], error) {
	r, err := a.engine.OrderErasure(ctx, workspace(ctx).ID, in.Body.Address, in.Body.Kind, whose(ctx))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	noteOf(ctx).thing, noteOf(ctx).detail = fmt.Sprintf("requests/%d", r.ID), in.Body.Kind
	waiting, done := context.WithTimeout(ctx, answersWithin)
	defer done()
	for r.EndedAt == nil && waiting.Err() == nil {
		select {
		case <-time.After(looksEvery):
		case <-waiting.Done():
		}
		now, err := a.store.Request(ctx, r.WorkspaceID, r.ID)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		r = now
	}
	return &made[contract.RightsRequest]{fmt.Sprintf("/api/v1/requests/%d", r.ID), requestBody(r)}, nil
}

func (a *API) requests(ctx context.Context, in *struct {
	Cursor
	Limit
}) (*pageOutput[contract.RightsRequest], error) {
	before := int64(0)
	if err := in.place(&before); err != nil {
		return nil, err
	}
	found, err := a.store.RequestsOf(ctx, workspace(ctx).ID, before, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(contract.Each(found, requestBody), in.Limit.Limit, func(r contract.RightsRequest) any { return r.ID }), nil
}

func (a *API) request(ctx context.Context, in *ByID) (*struct{ Body contract.RightsRequest }, error) {
	r, err := a.store.Request(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.RightsRequest }{requestBody(r)}, nil
}

func requestBody(r store.Request) contract.RightsRequest {
	return contract.RightsRequest{ID: r.ID, Kind: r.Kind, Mark: hex.EncodeToString(r.Fingerprint[:4]), State: r.State, Rows: r.Rows, Results: r.Results,
		Says: rights.Says(r), ByWhom: r.ByWhom, BegunAt: r.BegunAt, EndedAt: r.EndedAt}
}
