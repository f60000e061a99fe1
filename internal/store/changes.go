package store

import (
	"context"
	"fmt"
	"strconv"

	"github.com/jackc/pgx/v5"
)

// Change is what has changed in a workspace.
type Change struct {
	Workspace int64  // 0: every one
	Kind      string // list, run, routine, event, connection, import, write-back or mailing
	ID        int64
}

// changeChannel is where the database tells changes (migration 26).
const changeChannel = "varnet_change"

// Changes calls seen with every change in the database, whichever process made it, until
// ctx ends or the connection is lost; ready is called once none is missed any more. It has a
// connection of its own, beside the pool.
func (s *Store) Changes(ctx context.Context, ready func(), seen func(Change)) error {
	conn, err := pgx.ConnectConfig(ctx, s.sessions.Config().ConnConfig.Copy())
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if _, err := conn.Exec(ctx, "LISTEN "+changeChannel); err != nil {
		return err
	}
	ready()
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var c Change
		if _, err := fmt.Sscan(n.Payload, &c.Workspace, &c.Kind, &c.ID); err == nil {
			seen(c)
		}
	}
}

// TellProgress tells those who watch that results of runs were recorded.
func (s *Store) TellProgress(ctx context.Context, runs []int64) error {
	_, err := s.db.Exec(ctx, "SELECT pg_notify($2, workspace_id || ' run ' || id) FROM run WHERE id = ANY($1)", runs, changeChannel)
	return err
}

// TellList tells those who watch that something beside a list has changed.
func (s *Store) TellList(ctx context.Context, l List) error {
	_, err := s.db.Exec(ctx, "SELECT pg_notify($1, $2 || ' list ' || $3)", changeChannel, strconv.FormatInt(l.WorkspaceID, 10), strconv.FormatInt(l.ID, 10))
	return err
}
