package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerMeanings(h huma.API) {
	huma.Register(h, operation("get-column-meanings", http.MethodGet, "/lists/{id}/meanings", "What the columns of a list hold"), a.meanings)
	huma.Register(h, operation("set-column-meanings", http.MethodPut, "/lists/{id}/meanings", "Set what the columns of a list hold"), a.setMeanings)
}

type meaningsOutput struct{ Body contract.ColumnMeanings }

func meaningsBody(l store.List) *meaningsOutput {
	return &meaningsOutput{contract.ColumnMeanings{Guessed: l.Meanings == nil, Meanings: contract.Each(l.Means(), func(m sheet.Meaning) contract.ColumnMeaning {
		return contract.ColumnMeaning{Column: l.Columns[m.Column], Holds: string(m.Holds), Of: m.Of}
	})}}
}

func (a *API) meanings(ctx context.Context, in *ByID) (*meaningsOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return meaningsBody(l), nil
}

func (a *API) setMeanings(ctx context.Context, in *struct {
	ByID
	Body contract.ColumnMeanings
}) (*meaningsOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	named := contract.Each(in.Body.Meanings, func(m contract.ColumnMeaning) sheet.NamedMeaning {
		return sheet.NamedMeaning{Column: m.Column, Holds: sheet.Holds(m.Holds), Of: m.Of}
	})
	if l.Meanings, err = sheet.MeaningsOf(l.Columns, named); err != nil {
		return nil, huma.Error422UnprocessableEntity(say.Sentence(err.Error()))
	}
	if err := a.engine.SetMeanings(ctx, l); err != nil {
		return nil, a.failed(ctx, err)
	}
	return meaningsBody(l), nil
}
