package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/jackc/pgx/v5"
)

const (
	// othersLists are copied of one list of a million rows with its run, so that the database holds a hundred
	// million rows beside those that are measured.
	othersLists  = 99
	othersSpaces = 10
)

// hundredMillion takes a list of a million rows through its life in a database that holds one such list
// beside it, and again in one that holds a hundred of other workspaces: the first is the baseline.
func hundredMillion() error {
	w, err := plainWorld()
	if err != nil {
		return err
	}
	in, err := install(w, 2722, "VARNET_ROUNDS=1s", "VARNET_METRICS="+teamsMetrics)
	if err != nil {
		return err
	}
	defer in.stop()
	if err := in.roomy(); err != nil {
		return err
	}
	ctx := context.Background()
	file, err := writeRows(in.net.World, intakeRows)
	if err != nil {
		return err
	}
	defer os.Remove(file)
	kept := &living{life: life{rows: intakeRows}, in: in}
	if err := kept.verify(ctx, file); err != nil {
		return err
	}
	alone, everyday, err := in.lives(1)
	if err != nil {
		return err
	}
	if err := in.others(ctx); err != nil {
		return err
	}
	total, err := in.total(ctx)
	if err != nil {
		return err
	}
	among, then, err := in.lives(1 + othersLists)
	if err != nil {
		return err
	}
	bars := tellLives(alone, among)
	hourly, err := in.clockJobs()
	if err != nil {
		return err
	}
	rows := float64((othersLists + 1) * intakeRows)
	size := float64(kept.disk[theFile]) / float64(intakeRows)
	fmt.Printf("\nthe database has %.1f GB: %.1f bytes a row, of which the file itself is %.1f\n", float64(total)/1e9, float64(total)/rows, size)
	fmt.Printf("the hourly upkeep takes %v\n", short(hourly["retention"]))
	return judge(append(bars,
		bar{"disk beyond the file itself, bytes a row", float64(total)/rows - size, 200, true, ""},
		bar{"times the baseline, start until ready", then.start.Seconds() / everyday.start.Seconds(), 1.5, true, ""},
		bar{"p95 of metrics", ms(then.metrics), 150, true, " ms"},
		bar{"p95 of a page of lists", ms(then.lists), 150, true, " ms"},
		bar{"p95 of a run's page", ms(then.run), 150, true, " ms"}))
}

// lives is the life of a list beside so many others as large, and what everyday things take there.
func (in *installation) lives(others int) (l life, everyday everydayTimes, err error) {
	if everyday, err = in.everyday(); err != nil {
		return l, everyday, err
	}
	l, err = in.live(intakeRows)
	l.of = fmt.Sprintf("%d rows beside %d", intakeRows, others*intakeRows)
	return l, everyday, err
}

// others copies the first list with its run to other workspaces.
func (in *installation) others(ctx context.Context) error {
	begun := time.Now()
	err := in.copies(ctx,
		fmt.Sprintf("INSERT INTO workspace (name) SELECT 'team ' || n FROM generate_series(1, %d) n", othersSpaces),
		fmt.Sprintf(`CREATE TEMP TABLE copy AS SELECT (SELECT id FROM workspace WHERE name = 'team ' || n %% %d + 1) AS workspace, nextval(pg_get_serial_sequence('list', 'id')) AS list,
			nextval(pg_get_serial_sequence('run', 'id')) AS run FROM generate_series(1, %d) n`, othersSpaces, othersLists))
	fmt.Fprintf(os.Stderr, "%d lists of %d rows are copied in %.0f s\n", othersLists, intakeRows, time.Since(begun).Seconds())
	return err
}

// total is how many bytes the database takes.
func (in *installation) total(ctx context.Context) (size int64, err error) {
	conn, err := pgx.Connect(ctx, in.dsn)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	return size, conn.QueryRow(ctx, "SELECT pg_database_size(current_database())").Scan(&size)
}
