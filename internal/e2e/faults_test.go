package e2e

import (
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// loser returns what breaks off those of the service's connections to the database that fit, and
// says how many there were.
func loser(t *testing.T, s *testkit.Service) func(where string) int {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), s.Setting("VARNET_DSN"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return func(where string) (n int) {
		t.Helper()
		if err := conn.QueryRow(t.Context(), "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid() AND "+where).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
}

// TestLostConnections breaks off the database's connections in the midst of imports and of a
// run: an import is refused in words and leaves nothing, and the run goes on by itself.
func TestLostConnections(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	lose := loser(t, s)
	file := "e-mail,note\n" + strings.Repeat("ada.moss@fernhollow.example,"+strings.Repeat("seeds ", 30)+"\n", 150_000)
	ended := make(chan error, 1)
	go func() {
		_, err := api.Import(t.Context(), client.File{Name: "large.csv", Body: strings.NewReader(file)})
		ended <- err
	}()
	for end := time.Now().Add(20 * time.Second); lose("query ILIKE 'COPY%row_block%'") == 0; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("no import could be caught")
		}
	}
	if err := <-ended; status(err) != http.StatusServiceUnavailable || !strings.Contains(err.Error(), "nothing was changed") {
		t.Errorf("an import whose connection broke off: %v", err)
	}
	if lists, err := newestLists(t.Context(), api); err != nil || len(lists) != 0 {
		t.Errorf("%d lists are left of it, %v", len(lists), err)
	}
	if l, err := api.Import(t.Context(), client.File{Name: "large.csv", Body: strings.NewReader(file)}); err != nil || l.Rows != 150_000 {
		t.Errorf("sent again: %d rows, %v", l.Rows, err)
	}

	_, content := writeList(t, i.World, rows)
	run := start(t, api, content)
	for range 4 {
		time.Sleep(400 * time.Millisecond)
		lose("true")
	}
	ctx, cancel := context.WithTimeout(t.Context(), 120*time.Second)
	defer cancel()
	after, err := api.Wait(ctx, run.ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}
	checkResults(t, api, after, i.World)
}
