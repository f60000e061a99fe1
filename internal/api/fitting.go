package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/say"
	"varnet/internal/contract"
)

// mostByHand is about how many addresses is decided by hand at once: what is
// decided by hand is kept in memory beside the policy, which is made for more.
const mostByHand = 10_000

func (a *API) registerFitting(h huma.API) {
	huma.Register(h, operation("fitting", http.MethodGet, "/runs/{id}/fitting", "How many results of a run fit a filter, and how many would if one part of it were another"), a.countFitting)
	huma.Register(h, operation("decide-fitting", http.MethodPost, "/runs/{id}/by-hand", "Decide about all results that fit a filter, whatever the policy says"), a.decideFitting)
}

// FittingInput names a run and which of its results are meant.
type FittingInput struct {
	ByID
	DecidedFilter
}

// fitting gives the numbers of the addresses whose results fit a filter, up to
// one more than most.
func (a *API) fitting(ctx context.Context, j *judge, f DecidedFilter, most int) (addresses []int32, err error) {
	const atOnce = 2000
	for page := f.page(j, 0, atOnce); len(addresses) <= most; {
		found, err := a.decidedResults(ctx, j, page, f.Decision, f.Hand)
		if err != nil {
			return nil, err
		}
		for _, r := range found {
			addresses, page.After = append(addresses, r.Address), r.Address
		}
		if len(found) < atOnce {
			break
		}
	}
	return addresses[:min(len(addresses), most+1)], nil
}

func (a *API) decideFitting(ctx context.Context, in *struct {
	FittingInput
	Body contract.FittingByHand
}) (*struct{ Body contract.ByHandDone }, error) {
	j, err := a.judgeOfRun(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	found, err := a.fitting(ctx, j, in.DecidedFilter, mostByHand)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if len(found) > mostByHand {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("More than %s addresses fit; about so many a rule of a policy decides better. Nothing was decided.", say.Number(mostByHand)))
	}
	n, err := a.store.DecideByHand(ctx, j.list.ID, found, byHandDecision(in.Body.Decision))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.ByHandDone }{contract.ByHandDone{Addresses: n}}, nil
}
