package store

import (
	"context"
	"time"

	"varnet/core/workshop"
	"varnet/internal/store/pack"
)

// The states of a workshop job.
const (
	JobWorking = "working"
	JobDone    = "done"
	JobFailed  = "failed"
)

// WorkshopJob is the making of a list from lists.
type WorkshopJob struct {
	ID          int64
	WorkspaceID int64
	ListID      int64 // the one it begins with
	Recipe      workshop.Recipe
	Split       *workshop.Splitting // nil: one list is made
	Name        string
	DryRun      bool
	State       string
	Read        int64 // rows so far
	OfRows      int64 // rows of all its lists
	Report      *pack.WorkshopReport
	ListIDs     []int64
	Says        string
	ByWhom      string
	BegunAt     time.Time
	EndedAt     *time.Time
}

const jobColumns = `id, workspace_id, list_id, recipe, split, name, dry_run, state, read, of_rows, report, list_ids, says, by_whom, begun_at, ended_at`

// NewWorkshopJob records a job and gives it its ID. Those that were dry runs are forgotten after
// an hour.
func (s *Store) NewWorkshopJob(ctx context.Context, j *WorkshopJob) error {
	if _, err := s.db.Exec(ctx, "DELETE FROM workshop_job WHERE workspace_id = $1 AND dry_run AND begun_at < now() - interval '1 hour'", j.WorkspaceID); err != nil {
		return err
	}
	made, err := one[WorkshopJob](ctx, s.db, `INSERT INTO workshop_job (workspace_id, list_id, recipe, split, name, dry_run, of_rows, by_whom)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING `+jobColumns,
		j.WorkspaceID, j.ListID, j.Recipe, j.Split, j.Name, j.DryRun, j.OfRows, j.ByWhom)
	if err == nil {
		*j = made
	}
	return err
}

// WorkshopJob returns a job of a workspace.
func (s *Store) WorkshopJob(ctx context.Context, workspace, id int64) (WorkshopJob, error) {
	return one[WorkshopJob](ctx, s.db, `SELECT `+jobColumns+` FROM workshop_job WHERE workspace_id = $1 AND id = $2`, workspace, id)
}

// WorkshopJobs returns the last jobs of a workspace that made lists.
func (s *Store) WorkshopJobs(ctx context.Context, workspace int64, limit int) ([]WorkshopJob, error) {
	return many[WorkshopJob](ctx, s.db, `SELECT `+jobColumns+` FROM workshop_job WHERE workspace_id = $1 AND NOT dry_run ORDER BY id DESC LIMIT $2`, workspace, limit)
}

// WorkshopJobAtWork returns a job, of whichever workspace.
func (s *Store) WorkshopJobAtWork(ctx context.Context, id int64) (WorkshopJob, error) {
	return one[WorkshopJob](ctx, s.db, `SELECT `+jobColumns+` FROM workshop_job WHERE id = $1`, id)
}

// JobRead records how many rows a job has read. It is ErrNotFound for one that is not at work any
// more: somebody ended it.
func (s *Store) JobRead(ctx context.Context, id, rows int64) error {
	return s.changed(ctx, "UPDATE workshop_job SET read = $2 WHERE id = $1 AND state = 'working'", id, rows)
}

// EndWorkshopJob records what came of a job, unless it has ended.
func (s *Store) EndWorkshopJob(ctx context.Context, j WorkshopJob) error {
	return s.changed(ctx, `UPDATE workshop_job SET state = $2, read = $3, report = $4, list_ids = $5, says = $6, ended_at = now() WHERE id = $1 AND state = 'working'`,
		j.ID, j.State, j.Read, j.Report, append([]int64{}, j.ListIDs...), j.Says)
}

// StepRecipe is steps that are saved.
type StepRecipe struct {
	ID          int64
	WorkspaceID int64
	Name        string
	Recipe      workshop.Recipe
	ChangedAt   time.Time
}

const recipeColumns = `id, workspace_id, name, recipe, changed_at`

// SaveStepRecipe saves steps under a name, in place of those that are there.
func (s *Store) SaveStepRecipe(ctx context.Context, workspace int64, name string, r workshop.Recipe) (StepRecipe, error) {
	return one[StepRecipe](ctx, s.db, `INSERT INTO step_recipe (workspace_id, name, recipe) VALUES ($1, $2, $3)
		ON CONFLICT (workspace_id, name) DO UPDATE SET recipe = EXCLUDED.recipe, changed_at = now() RETURNING `+recipeColumns, workspace, name, r)
}

// StepRecipes returns the saved steps of a workspace by their names.
func (s *Store) StepRecipes(ctx context.Context, workspace int64) ([]StepRecipe, error) {
	return many[StepRecipe](ctx, s.db, `SELECT `+recipeColumns+` FROM step_recipe WHERE workspace_id = $1 ORDER BY lower(name)`, workspace)
}

// StepRecipe returns saved steps.
func (s *Store) StepRecipe(ctx context.Context, workspace, id int64) (StepRecipe, error) {
	return one[StepRecipe](ctx, s.db, `SELECT `+recipeColumns+` FROM step_recipe WHERE workspace_id = $1 AND id = $2`, workspace, id)
}

// DeleteStepRecipe forgets saved steps.
func (s *Store) DeleteStepRecipe(ctx context.Context, workspace, id int64) error {
	return s.changed(ctx, "DELETE FROM step_recipe WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// TermList is terms that are saved; First are the first of them.
type TermList struct {
	ID        int64
	Name      string
	Terms     int64
	First     []string
	ChangedAt time.Time
}

const termColumns = `id, name, cardinality(terms) AS terms, terms[1:10] AS first, changed_at`

// SaveTerms saves terms under a name, in place of those that are there.
func (s *Store) SaveTerms(ctx context.Context, workspace int64, name string, terms []string) (TermList, error) {
	return one[TermList](ctx, s.db, `INSERT INTO term_list (workspace_id, name, terms) VALUES ($1, $2, $3)
		ON CONFLICT (workspace_id, name) DO UPDATE SET terms = EXCLUDED.terms, changed_at = now() RETURNING `+termColumns, workspace, name, terms)
}

// TermLists returns the saved terms of a workspace by their names.
func (s *Store) TermLists(ctx context.Context, workspace int64) ([]TermList, error) {
	return many[TermList](ctx, s.db, `SELECT `+termColumns+` FROM term_list WHERE workspace_id = $1 ORDER BY lower(name)`, workspace)
}

// SavedTerms is terms with their name and when they were changed last.
type SavedTerms struct {
	Name      string
	Terms     []string
	ChangedAt time.Time
}

// TermsNamed returns the saved terms of some names, whatever their case.
func (s *Store) TermsNamed(ctx context.Context, workspace int64, names []string) ([]SavedTerms, error) {
	return many[SavedTerms](ctx, s.db, `SELECT name, terms, changed_at FROM term_list WHERE workspace_id = $1 AND lower(name) = ANY(SELECT lower(n) FROM unnest($2::text[]) n) ORDER BY name`, workspace, names)
}

// Terms returns the terms that are saved under a name, whatever its case.
func (s *Store) Terms(ctx context.Context, workspace int64, name string) (terms []string, err error) {
	found, err := s.TermsNamed(ctx, workspace, []string{name})
	if err != nil {
		return nil, err
	}
	if len(found) == 0 {
		return nil, ErrNotFound
	}
	return found[0].Terms, nil
}

// DeleteTerms forgets saved terms.
func (s *Store) DeleteTerms(ctx context.Context, workspace, id int64) error {
	return s.changed(ctx, "DELETE FROM term_list WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// SizedDomain is a domain of a list with its addresses and, where an earlier run told it, its
// operator.
type SizedDomain struct {
	Domain    string
	Addresses int64
	Operator  string
}

// EachDomain returns the domains of a list, the largest first, with the operators that the
// workspace's runs found.
func (s *Store) EachDomain(ctx context.Context, workspace, list int64, do func(SizedDomain)) error {
	operators, err := s.knownOperators(ctx, workspace, list)
	if err != nil {
		return err
	}
	rows, err := s.db.Query(ctx, "SELECT domain, addresses FROM list_domain WHERE list_id = $1 ORDER BY addresses DESC, domain", list)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var d SizedDomain
		if err := rows.Scan(&d.Domain, &d.Addresses); err != nil {
			return err
		}
		d.Operator = operators[d.Domain]
		do(d)
	}
	return rows.Err()
}

// knownOperators returns the operators of a list's domains, as the workspace's latest runs found
// them.
func (s *Store) knownOperators(ctx context.Context, workspace, list int64) (map[string]string, error) {
	rows, err := s.db.Query(ctx, `SELECT DISTINCT ON (d.domain) d.domain, d.operator
		FROM run_domain d JOIN run u ON u.id = d.run_id JOIN list_domain l ON l.list_id = $2 AND l.domain = d.domain
		WHERE u.workspace_id = $1 AND d.operator <> '' ORDER BY d.domain, d.run_id DESC`, workspace, list)
	return byKey[string](rows, err)
}

// Profile returns what was found of the columns of a list, nil for nothing yet.
func (s *Store) Profile(ctx context.Context, list int64) (p []pack.ColumnProfile, err error) {
	err = s.db.QueryRow(ctx, "SELECT profile FROM list WHERE id = $1", list).Scan(&p)
	return p, err
}

// SaveProfile remembers what the columns of a list are like.
func (s *Store) SaveProfile(ctx context.Context, list int64, p []pack.ColumnProfile) error {
	_, err := s.db.Exec(ctx, "UPDATE list SET profile = $2 WHERE id = $1", list, p)
	return err
}
