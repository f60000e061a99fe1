package store

import (
	"context"
	"time"
)

// Installation is what its owner has set for all workspaces.
type Installation struct {
	SignUp         string // open, invitation or closed
	AuditDays      int
	MaxKeepDays    *int // for how long lists may be kept at most; nil: any time
	ProviderName   string
	ProviderIssuer string // "": no sign-in provider
	ProviderClient string
	ProviderSealed []byte
}

// Installation returns it.
func (s *Store) Installation(ctx context.Context) (Installation, error) {
	return one[Installation](ctx, s.db, "SELECT sign_up, audit_days, max_keep_days, provider_name, provider_issuer, provider_client, provider_sealed FROM installation")
}

// SetInstallation records it.
func (s *Store) SetInstallation(ctx context.Context, i Installation) error {
	return s.changed(ctx, `UPDATE installation SET sign_up = $1, audit_days = $2, max_keep_days = $3, provider_name = $4, provider_issuer = $5, provider_client = $6, provider_sealed = $7`,
		i.SignUp, i.AuditDays, i.MaxKeepDays, i.ProviderName, i.ProviderIssuer, i.ProviderClient, i.ProviderSealed)
}

// Limits are what each workspace may ask of the service: in a minute, and at a time.
type Limits struct {
	RequestsMinute int
	ChecksMinute   int
	Imports        int
	Exports        int
	Streams        int
	Uploads        int // sent part by part, and not imported yet
	UploadMB       int // of all those together, in millions of bytes
	Lists          int
}

// Limits returns them.
func (s *Store) Limits(ctx context.Context) (Limits, error) {
	return one[Limits](ctx, s.db, "SELECT requests_minute, checks_minute, imports, exports, streams, uploads, upload_mb, lists FROM installation")
}

// SetLimits records them.
func (s *Store) SetLimits(ctx context.Context, l Limits) error {
	return s.changed(ctx, "UPDATE installation SET requests_minute = $1, checks_minute = $2, imports = $3, exports = $4, streams = $5, uploads = $6, upload_mb = $7, lists = $8",
		l.RequestsMinute, l.ChecksMinute, l.Imports, l.Exports, l.Streams, l.Uploads, l.UploadMB, l.Lists)
}

// Usage is how much of the installation a workspace uses.
type Usage struct {
	Team
	Members   int64
	Lists     int64
	Rows      int64
	Runs      int64 // in the last 30 days
	Addresses int64 // of those runs
	LastRunAt *time.Time
}

// Usages returns all workspaces with what they use, by name.
func (s *Store) Usages(ctx context.Context) ([]Usage, error) {
	return many[Usage](ctx, s.db, `SELECT w.id, w.name, w.second_factor, w.readers_export, w.max_rows, w.created_at, w.delete_at, w.delete_by,
		(SELECT count(*) FROM member WHERE workspace_id = w.id) AS members,
		coalesce(l.lists, 0) AS lists, coalesce(l.rows, 0) AS rows, coalesce(r.runs, 0) AS runs, coalesce(r.addresses, 0) AS addresses, r.last_run_at
		FROM workspace w
		LEFT JOIN (SELECT workspace_id, count(*) AS lists, sum(rows)::bigint AS rows FROM list GROUP BY workspace_id) l ON l.workspace_id = w.id
		LEFT JOIN (SELECT x.workspace_id, count(*) FILTER (WHERE x.created_at > now() - interval '30 days') AS runs, max(x.created_at) AS last_run_at,
			coalesce(sum(coalesce(cardinality(x.sample), y.addresses)) FILTER (WHERE x.created_at > now() - interval '30 days'), 0)::bigint AS addresses
			FROM run x JOIN list y ON y.id = x.list_id GROUP BY x.workspace_id) r ON r.workspace_id = w.id
		WHERE w.ended_at IS NULL
		ORDER BY w.name, w.id`)
}

// SetMaxRows limits the rows of all lists of a workspace; nil: any number.
func (s *Store) SetMaxRows(ctx context.Context, workspace int64, most *int64) error {
	return s.changed(ctx, "UPDATE workspace SET max_rows = $2 WHERE id = $1", workspace, most)
}

// RowsLeft returns how many rows more the lists of a workspace may have, below 0 where they
// have too many, and how many they may have in all; nil: any number.
func (s *Store) RowsLeft(ctx context.Context, workspace int64) (left, most *int64, err error) {
	err = s.db.QueryRow(ctx, `SELECT max_rows - coalesce((SELECT sum(rows)::bigint FROM list WHERE workspace_id = w.id), 0), max_rows
		FROM workspace w WHERE id = $1`, workspace).Scan(&left, &most)
	return left, most, err
}
