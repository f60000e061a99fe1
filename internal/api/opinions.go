package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/finding"
	"varnet/core/opinion"
	"varnet/internal/contract"
	opinions "varnet/internal/opinion"
)

func (a *API) registerOpinions(h huma.API) {
	huma.Register(h, operation("get-opinions", http.MethodGet, "/lists/{id}/opinions", "What other checks found of a list, beside what its last run did"), a.opinions)
	huma.Register(h, operation("get-opinion-rows", http.MethodGet, "/lists/{id}/opinion-rows", "Rows of a list by what another check and its last run found"), a.opinionRows)
	huma.Register(h, operation("set-opinion-meaning", http.MethodPut, "/opinions/{name}", "Set what the words of another check mean"), a.setOpinionMeaning)
}

func (a *API) opinions(ctx context.Context, in *ByID) (*struct{ Body contract.Opinions }, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := (&opinions.Desk{Store: a.store}).Look(ctx, l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Opinions }{out}, nil
}

func (a *API) opinionRows(ctx context.Context, in *struct {
	ByID
	contract.OpinionFilter
	Cursor
	Limit
}) (*pageOutput[contract.OpinionRow], error) {
	after := int32(0)
	if err := in.place(&after); err != nil {
		return nil, err
	}
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	rows, err := (&opinions.Desk{Store: a.store}).Rows(ctx, l, in.OpinionFilter, after, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(rows, in.Limit.Limit, func(r contract.OpinionRow) any { return r.Ordinal }), nil
}

// mostMeanings is how many words of a check may have a meaning.
const mostMeanings = 200

func (a *API) setOpinionMeaning(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"60" doc:"The name of the other check."`
	Body contract.OpinionMeaning
}) (*struct{}, error) {
	if len(in.Body.Means) > mostMeanings {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("At most %d words have a meaning.", mostMeanings))
	}
	means := opinion.Means{}
	for word, f := range in.Body.Means {
		if f != "" && !slices.Contains(finding.Findings(), finding.Finding(f)) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("“%s” cannot mean %q; use deliverable, catch-all, undecided, undeliverable, or nothing.", word, f))
		}
		means[opinion.Word(word)] = finding.Finding(f)
	}
	if err := a.store.SetOpinionMeans(ctx, workspace(ctx).ID, strings.TrimSpace(in.Name), means); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}
