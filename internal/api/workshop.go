package api

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/format"
	"varnet/internal/store"
	"varnet/internal/store/pack"
	"varnet/internal/workshop"
)

func (a *API) registerWorkshop(h huma.API) {
	begin := creates(operation("begin-workshop-job", http.MethodPost, "/workshop-jobs", "Make a list from lists, or describe what it would be"))
	begin.MaxBodyBytes = maxTermsBody
	huma.Register(h, begin, a.beginWorkshopJob)
	huma.Register(h, operation("get-workshop-jobs", http.MethodGet, "/workshop-jobs", "The lists that were made in the workshop lately"), a.workshopJobs)
	huma.Register(h, operation("get-workshop-job", http.MethodGet, "/workshop-jobs/{id}", "How far the making of a list is"), a.workshopJob)
	huma.Register(h, operation("end-workshop-job", http.MethodDelete, "/workshop-jobs/{id}", "End the making of a list; nothing is made"), a.endWorkshopJob)
	file := operation("make-workshop-file", http.MethodPost, "/workshop-files", "Make a file from lists")
	file.MaxBodyBytes, file.Responses = maxTermsBody, fileResponse("text/csv")
	huma.Register(h, file, a.workshopFile)
	huma.Register(h, operation("get-step-recipes", http.MethodGet, "/step-recipes", "The saved steps"), a.stepRecipes)
	save := operation("save-step-recipe", http.MethodPut, "/step-recipes", "Save steps under a name")
	save.MaxBodyBytes = maxTermsBody
	huma.Register(h, save, a.saveStepRecipe)
	huma.Register(h, operation("delete-step-recipe", http.MethodDelete, "/step-recipes/{id}", "Delete saved steps"), a.deleteStepRecipe)
	huma.Register(h, operation("get-term-lists", http.MethodGet, "/term-lists", "The saved terms"), a.termLists)
	terms := operation("save-term-list", http.MethodPut, "/term-lists", "Save terms under a name")
	terms.MaxBodyBytes = maxTermsBody
	huma.Register(h, terms, a.saveTermList)
	huma.Register(h, operation("delete-term-list", http.MethodDelete, "/term-lists/{id}", "Delete saved terms"), a.deleteTermList)
	huma.Register(h, operation("get-list-domains", http.MethodGet, "/lists/{id}/domains", "What the domains of a list tell before any address is verified"), a.listDomains)
	huma.Register(h, operation("get-list-columns", http.MethodGet, "/lists/{id}/columns", "What the columns of a list are like"), a.listColumns)
	huma.Register(h, operation("get-list-known", http.MethodGet, "/lists/{id}/known", "What is known of the addresses of a list by the runs of all lists"), a.listKnown)
}

// maxTermsBody has room for a million terms.
const maxTermsBody = 64 << 20

// answersWithin is how long a request waits for what it began: small lists are made at once.
const (
	answersWithin = 3 * time.Second
	looksEvery    = 40 * time.Millisecond
)

func jobBody(j store.WorkshopJob) contract.WorkshopJob {
	r := pack.WorkshopReport{}
	if j.Report != nil {
		r = *j.Report
	}
	b := workshop.JobOf(r, j.Says)
	b.ID, b.DryRun, b.State, b.Read, b.Of, b.BegunAt, b.EndedAt = j.ID, j.DryRun, j.State, j.Read, j.OfRows, j.BegunAt, j.EndedAt
	b.ListIDs = append(b.ListIDs, j.ListIDs...)
	return b
}

// beginMaking makes an order ready: its lists are there, and its steps can be done.
func (a *API) beginMaking(ctx context.Context, o contract.WorkshopOrder) (*workshop.ListMaking, error) {
	l, err := a.store.NewestImport(ctx, workspace(ctx).ID, o.ListID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	m, err := a.engine.Workshop.Begin(ctx, workshop.Order{Workspace: l.WorkspaceID, List: l, Recipe: workshop.RecipeOf(o.Steps), Split: workshop.SplitOf(o.Split), Name: strings.TrimSpace(o.Name)})
	if err != nil {
		return nil, a.workshopProblem(ctx, err)
	}
	return m, nil
}

func (a *API) workshopProblem(ctx context.Context, err error) error {
	var why *workshop.Wrong
	if errors.As(err, &why) {
		return huma.Error422UnprocessableEntity(why.Why)
	}
	return a.failed(ctx, err)
}

func (a *API) beginWorkshopJob(ctx context.Context, in *struct{ Body contract.NewWorkshopJob }) (*made[contract.WorkshopJob], error) {
	m, err := a.beginMaking(ctx, in.Body.WorkshopOrder)
	if err != nil {
		return nil, err
	}
	if err := m.Close(); err != nil { // a job makes it
		return nil, a.failed(ctx, err)
	}
	noteOf(ctx).silent = in.Body.DryRun
	if !in.Body.DryRun {
		if err := a.roomForList(ctx); err != nil {
			return nil, a.failed(ctx, err)
		}
	}
	j := store.WorkshopJob{WorkspaceID: m.Workspace, ListID: m.List.ID, Recipe: m.Recipe, Split: m.Split, Name: m.Name, DryRun: in.Body.DryRun, OfRows: m.OfRows, ByWhom: whose(ctx)}
	if err := a.engine.MakeLists(ctx, &j); err != nil {
		return nil, a.failed(ctx, err)
	}
	if j, err = a.awaited(ctx, j); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &made[contract.WorkshopJob]{fmt.Sprintf("/api/v1/workshop-jobs/%d", j.ID), jobBody(j)}, nil
}

// awaited waits a moment for a job to end.
func (a *API) awaited(ctx context.Context, j store.WorkshopJob) (store.WorkshopJob, error) {
	waiting, done := context.WithTimeout(ctx, answersWithin)
	defer done()
	for {
		now, err := a.store.WorkshopJob(ctx, j.WorkspaceID, j.ID)
		if err != nil || now.EndedAt != nil {
			return now, err
		}
		select {
		case <-time.After(looksEvery):
		case <-waiting.Done():
			return now, nil
		}
	}
}

// jobsShown is how many of the last jobs are shown.
const jobsShown = 50

func (a *API) workshopJobs(ctx context.Context, _ *struct{}) (*pageOutput[contract.WorkshopJob], error) {
	found, err := a.store.WorkshopJobs(ctx, workspace(ctx).ID, jobsShown)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, jobBody)), nil
}

func (a *API) workshopJob(ctx context.Context, in *ByID) (*struct{ Body contract.WorkshopJob }, error) {
	j, err := a.store.WorkshopJob(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.WorkshopJob }{jobBody(j)}, nil
}

func (a *API) endWorkshopJob(ctx context.Context, in *ByID) (*struct{}, error) {
	j, err := a.store.WorkshopJob(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	j.State, j.Says = store.JobFailed, "It was ended by a person; nothing was made."
	if err := a.store.EndWorkshopJob(ctx, j); err != nil && !errors.Is(err, store.ErrNotFound) { // it ended meanwhile
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

func (a *API) workshopFile(ctx context.Context, in *struct {
	Format format.Output `query:"format" enum:"original,xlsx,ods,jsonl" default:"original" doc:"The format of the file; original is the list's own text as far as its rows still stand so, and otherwise CSV."`
	Body   contract.WorkshopOrder
}) (*huma.StreamResponse, error) {
	if in.Body.Split != nil {
		return nil, huma.Error422UnprocessableEntity("A file holds one table. Leave the split out, or make lists.")
	}
	m, err := a.beginMaking(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	ending, kind := in.Format.Ending()
	return a.stream(download{name: "workshop" + ending, kind: kind, write: func(out io.Writer) error {
		buffered := bufio.NewWriterSize(out, 1<<16)
		err := workshop.Write(m.Table, in.Format, buffered)
		return errors.Join(cmp.Or(err, buffered.Flush()), m.Close())
	}}), nil
}

func recipeBody(names func(string) string) func(store.StepRecipe) contract.StepRecipe {
	return func(r store.StepRecipe) contract.StepRecipe {
		b := contract.StepRecipe{ID: r.ID, Name: r.Name, Steps: workshop.Steps(r.Recipe), Says: []string{}, ChangedAt: r.ChangedAt}
		for _, s := range r.Recipe {
			b.Says = append(b.Says, s.Says(names))
		}
		return b
	}
}

// listNames returns what lists are called by their numbers as texts.
func (a *API) listNames(ctx context.Context, recipes ...store.StepRecipe) func(string) string {
	called := map[string]string{}
	for _, r := range recipes {
		for _, name := range r.Recipe.Lists() {
			if l, err := a.engine.Workshop.Named(ctx, workspace(ctx).ID, name); err == nil {
				called[name] = l.Name
			}
		}
	}
	return func(name string) string {
		if c, ok := called[name]; ok {
			return c
		}
		return "list " + name + ", which was deleted"
	}
}

func (a *API) stepRecipes(ctx context.Context, _ *struct{}) (*pageOutput[contract.StepRecipe], error) {
	found, err := a.store.StepRecipes(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, recipeBody(a.listNames(ctx, found...)))), nil
}

func (a *API) saveStepRecipe(ctx context.Context, in *struct{ Body contract.NewStepRecipe }) (*struct{ Body contract.StepRecipe }, error) {
	r := workshop.RecipeOf(in.Body.Steps)
	for _, name := range r.Lists() {
		if _, err := a.engine.Workshop.Named(ctx, workspace(ctx).ID, name); err != nil {
			return nil, a.workshopProblem(ctx, &workshop.Wrong{Why: fmt.Sprintf("There is no list %s, which a step names.", name)})
		}
	}
	noteOf(ctx).thing = in.Body.Name
	saved, err := a.store.SaveStepRecipe(ctx, workspace(ctx).ID, strings.TrimSpace(in.Body.Name), r)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.StepRecipe }{recipeBody(a.listNames(ctx, saved))(saved)}, nil
}

func (a *API) deleteStepRecipe(ctx context.Context, in *ByID) (*struct{}, error) {
	if err := a.store.DeleteStepRecipe(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

func termsBody(t store.TermList) contract.TermList {
	return contract.TermList{ID: t.ID, Name: t.Name, Terms: t.Terms, First: append([]string{}, t.First...), ChangedAt: t.ChangedAt}
}

func (a *API) termLists(ctx context.Context, _ *struct{}) (*pageOutput[contract.TermList], error) {
	found, err := a.store.TermLists(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, termsBody)), nil
}

func (a *API) saveTermList(ctx context.Context, in *struct{ Body contract.NewTermList }) (*struct{ Body contract.TermList }, error) {
	terms := in.Body.Terms
	for i, t := range terms {
		terms[i] = strings.ReplaceAll(strings.TrimSpace(t), "\x00", "")
	}
	terms = slices.DeleteFunc(terms, func(t string) bool { return t == "" })
	if len(terms) == 0 {
		return nil, huma.Error422UnprocessableEntity("All the terms are empty. Give at least one.")
	}
	noteOf(ctx).thing = in.Body.Name
	saved, err := a.store.SaveTerms(ctx, workspace(ctx).ID, strings.TrimSpace(in.Body.Name), terms)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.TermList }{termsBody(saved)}, nil
}

func (a *API) deleteTermList(ctx context.Context, in *ByID) (*struct{}, error) {
	if err := a.store.DeleteTerms(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

func (a *API) listDomains(ctx context.Context, in *ByID) (*struct{ Body contract.DomainStatistics }, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	s, err := a.engine.Workshop.Domains(ctx, l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.DomainStatistics }{s}, nil
}

func (a *API) listColumns(ctx context.Context, in *ByID) (*pageOutput[contract.ColumnProfile], error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	found, err := a.engine.Workshop.Profiles(ctx, l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(found), nil
}

func (a *API) listKnown(ctx context.Context, in *ByID) (*struct{ Body contract.KnownResults }, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	k, err := a.engine.Workshop.Known(ctx, l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.KnownResults }{k}, nil
}
