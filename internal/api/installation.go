package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerInstallation(h huma.API) {
	huma.Register(h, operation("get-installation", http.MethodGet, "/installation", "What holds for all workspaces, and what each uses"), a.installation)
	huma.Register(h, operation("change-installation", http.MethodPut, "/installation", "Change who may sign up, how, and what is kept for how long"), a.changeInstallation)
	huma.Register(h, operation("limit-workspace", http.MethodPut, "/installation/workspaces/{id}", "Limit a workspace"), a.limitWorkspace)
}

type installationOutput struct{ Body contract.Installation }

func (a *API) installation(ctx context.Context, _ *struct{}) (*installationOutput, error) {
	i, err := a.store.Installation(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	used, err := a.store.Usages(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := contract.Installation{InstallationSettings: contract.InstallationSettings{SignUp: i.SignUp, AuditDays: i.AuditDays,
		Provider: contract.SignInProvider{Name: i.ProviderName, Issuer: i.ProviderIssuer, Client: i.ProviderClient}},
		Workspaces: contract.Each(used, usageBody)}
	limits, err := a.store.Limits(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b.Limits = contract.Limits(limits)
	if i.MaxKeepDays != nil {
		b.MaxKeepDays = *i.MaxKeepDays
	}
	if s, err := a.letters.Settings(ctx); err == nil {
		b.Provider.Redirect = s.BaseURL + "/api/v1/sign-in/provider/back"
	}
	return &installationOutput{b}, nil
}

func usageBody(u store.Usage) contract.WorkspaceUsage {
	b := contract.WorkspaceUsage{ID: u.ID, Name: u.Name, Members: u.Members, Lists: u.Lists, Rows: u.Rows, Runs: u.Runs, Addresses: u.Addresses, LastRunAt: u.LastRunAt, CreatedAt: u.CreatedAt}
	if u.MaxRows != nil {
		b.MaxRows = *u.MaxRows
	}
	return b
}

func (a *API) changeInstallation(ctx context.Context, in *struct {
	Body contract.InstallationSettings
}) (*installationOutput, error) {
	i, err := a.store.Installation(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	i.SignUp, i.AuditDays, i.MaxKeepDays = in.Body.SignUp, in.Body.AuditDays, nil
	if in.Body.MaxKeepDays > 0 {
		i.MaxKeepDays = &in.Body.MaxKeepDays
	}
	p := in.Body.Provider
	if err := a.accounts.SetProvider(&i, p.Name, p.Issuer, p.Client, p.Secret); err != nil {
		return nil, huma.Error422UnprocessableEntity("The sign-in provider cannot be this one.", &huma.ErrorDetail{Location: "body.provider.issuer", Message: err.Error(), Value: p.Issuer})
	}
	if err := a.store.SetInstallation(ctx, i); err != nil {
		return nil, a.failed(ctx, err)
	}
	limits := store.Limits(in.Body.Limits)
	if err := a.store.SetLimits(ctx, limits); err != nil {
		return nil, a.failed(ctx, err)
	}
	a.admission.knowLimits(limits) // whoever set them sees them hold
	return a.installation(ctx, nil)
}

func (a *API) limitWorkspace(ctx context.Context, in *struct {
	ByID
	Body contract.WorkspaceLimits
}) (*installationOutput, error) {
	var most *int64
	if in.Body.MaxRows > 0 {
		most = &in.Body.MaxRows
	}
	if err := a.store.SetMaxRows(ctx, in.ID, most); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.installation(ctx, nil)
}
