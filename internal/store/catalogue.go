package store

import (
	"context"
	"strings"

	"varnet/core/catalogue"
)

// CatalogueEntries returns a page of the workspace's own entries: those that come after
// one, the zero value for the first.
func (s *Store) CatalogueEntries(ctx context.Context, workspace int64, after catalogue.Entry, limit int) ([]catalogue.Entry, error) {
	return many[catalogue.Entry](ctx, s.db, `SELECT kind, name, "except" FROM catalogue_entry WHERE workspace_id = $1 AND (kind, name) > ($2, $3)
		ORDER BY kind, name LIMIT $4`, workspace, string(after.Kind), after.Name, limit)
}

// SaveCatalogueEntries adds entries, or changes those that are there.
func (s *Store) SaveCatalogueEntries(ctx context.Context, workspace int64, entries []catalogue.Entry) error {
	var kinds, names []string
	var excepts []bool
	for _, e := range entries {
		kinds, names, excepts = append(kinds, string(e.Kind)), append(names, e.Name), append(excepts, e.Except)
	}
	_, err := s.db.Exec(ctx, `
		INSERT INTO catalogue_entry (workspace_id, kind, name, "except")
		SELECT DISTINCT ON (kind, name) $1::bigint, kind, name, without FROM unnest($2::text[], $3::text[], $4::boolean[]) AS e (kind, name, without)
		ON CONFLICT (workspace_id, kind, name) DO UPDATE SET "except" = EXCLUDED."except"`, workspace, kinds, names, excepts)
	return err
}

// AffectedList is a list and how many of its addresses something is about.
type AffectedList struct {
	ID        int64
	Name      string
	Addresses int64
}

// AddressesLike counts the addresses of the workspace's newest lists at the
// domains, or with the names, of entries.
func (s *Store) AddressesLike(ctx context.Context, workspace int64, entries []catalogue.Entry) (out []AffectedList, err error) {
	lists, err := many[AffectedList](ctx, s.db, `SELECT id, name, 0::bigint AS addresses FROM list WHERE workspace_id = $1
		AND NOT EXISTS (SELECT FROM list newer WHERE newer.earlier_id = list.id) ORDER BY id DESC LIMIT $2`, workspace, affectedLists)
	var domains []string
	names := map[catalogue.Kind]map[string]bool{}
	for _, e := range entries {
		if e.Kind.ByDomain() {
			domains = append(domains, e.Name)
		} else if names[e.Kind] == nil {
			names[e.Kind] = map[string]bool{e.Name: true}
		} else {
			names[e.Kind][e.Name] = true
		}
	}
	for _, l := range lists {
		if err == nil && len(domains) > 0 {
			err = s.db.QueryRow(ctx, "SELECT coalesce(sum(addresses), 0) FROM list_domain WHERE list_id = $1 AND domain = ANY($2)", l.ID, domains).Scan(&l.Addresses)
		}
		for kind, of := range names {
			if err == nil {
				err = s.countNames(ctx, kind, of, &l)
			}
		}
		if l.Addresses > 0 {
			out = append(out, l)
		}
	}
	return out, err
}

// affectedLists bounds how many lists are looked through.
const affectedLists = 50

// countNames adds the addresses of a list whose name before the @ is one of some.
func (s *Store) countNames(ctx context.Context, kind catalogue.Kind, names map[string]bool, l *AffectedList) error {
	return s.eachLocal(ctx, l.ID, nil, func(_, local string, _ int32) {
		if name, err := catalogue.Normal(kind, strings.ToLower(local)); err == nil && names[name] {
			l.Addresses++
		}
	})
}

// DeleteCatalogueEntry takes an entry of the workspace's own back.
func (s *Store) DeleteCatalogueEntry(ctx context.Context, workspace int64, kind catalogue.Kind, name string) error {
	tag, err := s.db.Exec(ctx, "DELETE FROM catalogue_entry WHERE workspace_id = $1 AND kind = $2 AND name = $3", workspace, string(kind), name)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}
