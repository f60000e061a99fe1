package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/problem"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/letter"
	"varnet/internal/store"
)

func (a *API) registerLetters(h huma.API) {
	huma.Register(h, operation("get-letter-settings", http.MethodGet, "/letters", "Whether and by which server letters are sent"), a.letterSettings)
	huma.Register(h, operation("set-letter-server", http.MethodPut, "/letters/server", "Set the submission server up"), a.setLetterServer)
	huma.Register(h, operation("remove-letter-server", http.MethodDelete, "/letters/server", "Stop sending letters"), a.removeLetterServer)
	huma.Register(h, operation("test-letter-server", http.MethodPost, "/letters/test", "Send a test letter"), a.testLetterServer)
}

type letterSettingsOutput struct{ Body contract.LetterSettings }

func (a *API) letterSettings(ctx context.Context, _ *struct{}) (*letterSettingsOutput, error) {
	s, err := a.letters.Settings(ctx)
	if errors.Is(err, letter.ErrNone) {
		return &letterSettingsOutput{contract.LetterSettings{Says: "No letters are sent: no submission server is set up."}}, nil
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &letterSettingsOutput{contract.LetterSettings{
		Server:   &contract.LetterServer{Host: s.Host, Port: s.Port, Security: s.Security, Username: s.Username, Sender: s.Sender, BaseURL: s.BaseURL},
		Password: s.Sealed != nil, Says: fmt.Sprintf("Letters are sent by %s:%d, from %s.", s.Host, s.Port, s.Sender)}}, nil
}

func (a *API) setLetterServer(ctx context.Context, in *struct{ Body contract.NewLetterServer }) (*letterSettingsOutput, error) {
	n := in.Body
	err := a.letters.Set(ctx, store.LetterServer{Host: n.Host, Port: n.Port, Security: n.Security, Username: n.Username, Sender: n.Sender, BaseURL: n.BaseURL}, n.Password)
	if err != nil {
		return nil, a.letterProblem(ctx, err)
	}
	return a.letterSettings(ctx, nil)
}

func (a *API) removeLetterServer(ctx context.Context, _ *struct{}) (*struct{}, error) {
	if err := a.store.RemoveLetterServer(ctx); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

func (a *API) testLetterServer(ctx context.Context, in *struct{ Body contract.LetterTest }) (*struct{ Body contract.LetterSent }, error) {
	s, err := a.letters.Settings(ctx)
	if err == nil {
		err = a.letters.Send(ctx, in.Body.To, letter.Test(s))
	}
	if err != nil {
		return nil, a.letterProblem(ctx, err)
	}
	return &struct{ Body contract.LetterSent }{contract.LetterSent{Says: fmt.Sprintf("%s:%d took a test letter to %s. See whether it arrives.", s.Host, s.Port, in.Body.To)}}, nil
}

// letterProblem tells a setting that cannot be, and what the submission server said.
func (a *API) letterProblem(ctx context.Context, err error) error {
	var wrong *problem.Field
	var refused *letter.Refused
	switch {
	case errors.As(err, &wrong):
		return huma.Error422UnprocessableEntity("One of the settings cannot be.", &huma.ErrorDetail{Location: "body." + wrong.Name, Message: wrong.Why})
	case errors.As(err, &refused), errors.Is(err, letter.ErrNone):
		return huma.Error409Conflict(say.Sentence(err.Error()))
	}
	return a.failed(ctx, err)
}
