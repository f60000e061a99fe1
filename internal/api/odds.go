package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
)

func (a *API) registerOdds(h huma.API) {
	huma.Register(h, operation("get-odds", http.MethodGet, "/odds", "What was learnt of catch-all addresses, and how good it was"), a.odds)
	huma.Register(h, operation("share-outcomes", http.MethodPut, "/odds/sharing", "Change whether outcomes are shared as counts of domains"), a.shareOutcomes)
}

func (a *API) odds(ctx context.Context, _ *struct{}) (*struct{ Body contract.Odds }, error) {
	out, err := a.engine.Odds.Look(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Odds }{out}, nil
}

// shareOutcomes sets it, and has the workspace learn anew: with the counts of others, or without.
func (a *API) shareOutcomes(ctx context.Context, in *struct{ Body contract.OddsSharing }) (*struct{ Body contract.OddsSharing }, error) {
	if err := a.store.ShareOutcomes(ctx, workspace(ctx).ID, in.Body.Shares); err != nil {
		return nil, a.failed(ctx, err)
	}
	if err := a.engine.LearnAnew(ctx, workspace(ctx).ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.OddsSharing }{in.Body}, nil
}
