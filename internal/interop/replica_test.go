//go:build interop

package interop

import (
	"bytes"
	"net/url"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"
	"time"

	"varnet/core/policy"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// standby makes a hot standby of the cluster on a port of its own, and starts it.
func (c *cluster) standby() *cluster {
	c.t.Helper()
	s := &cluster{t: c.t, bin: c.bin, port: testkit.FreePort(c.t), folder: filepath.Join(c.folder, "standby")}
	c.must("mkdir", s.folder)
	c.must(c.bin+"/pg_basebackup", "-D", s.data(), "-R", "-X", "stream", "-c", "fast", "--no-sync")
	s.configure("port = " + s.port + "\nunix_socket_directories = '" + s.folder + "'\nhot_standby_feedback = on\n")
	s.start()
	c.t.Cleanup(func() { _ = s.as("postgres", s.bin+"/pg_ctl", "-D", s.data(), "-m", "immediate", "stop").Run() })
	return s
}

// reads returns how many reads the replica served, and how many went past it.
func reads(t *testing.T, s *testkit.Service) (served, past int) {
	t.Helper()
	text := s.Measured(t)
	of := func(from string) int {
		found := regexp.MustCompile(`varnet_replica_reads_total\{from="` + from + `"\} (\d+)`).FindStringSubmatch(text)
		if found == nil {
			t.Fatalf("no reads from the %s are told: %s", from, text)
		}
		n, _ := strconv.Atoi(found[1])
		return n
	}
	return of("replica"), of("server")
}

// TestReplica: pages and exports are read from a hot standby, and hold what somebody did a moment before; when it is away or
// behind, they are read from the server itself, and from the standby again later.
func TestReplica(t *testing.T) {
	c := newCluster(t, 0, "")
	c.setup()
	standby := c.standby()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, append(testkit.Settings(c.dsn("varnet", "varnet"), i), "VARNET_MIGRATE=no", "VARNET_REPLICA_DSN="+standby.dsn("varnet", "varnet")))
	api := client.New(s.URL, s.Key)
	list, file := members(t, api, i.World)
	run, err := api.StartRun(t.Context(), list.ID, contract.NewRun{})
	if err != nil {
		t.Fatal(err)
	}
	if run, err = api.Wait(t.Context(), run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	whole(t, c.dsn("varnet", "varnet"), api, run, file)
	served, past := reads(t, s)
	if served < 5 || past > 0 {
		t.Errorf("%d reads from the standby, %d past it", served, past)
	}
	page, err := api.Results(t.Context(), run.ID, url.Values{"limit": {"1"}})
	if err != nil || len(page.Items) == 0 {
		t.Fatalf("%+v, %v", page, err)
	}
	one := page.Items[0].Ordinal
	// seesItself: what is decided is on the next page that is read.
	seesItself := func(when string, times int) {
		t.Helper()
		for n := range times {
			decision := policy.Decisions()[n%2]
			if _, err := api.Override(t.Context(), list.ID, contract.Override{Ordinals: []int32{one}, Decision: decision}); err != nil {
				t.Fatalf("%s: %v", when, err)
			}
			page, err := api.Results(t.Context(), run.ID, url.Values{"limit": {"1"}})
			if err != nil || page.Items[0].Decision != decision {
				t.Fatalf("%s: decided %s, %+v, %v", when, decision, page, err)
			}
		}
	}
	seesItself("up to date", 40)
	standby.must("psql", "-qc", "SELECT pg_wal_replay_pause()")
	seesItself("behind", 4)
	standby.must("psql", "-qc", "SELECT pg_wal_replay_resume()")
	standby.stop()
	seesItself("away", 4)
	before, _ := reads(t, s)
	standby.start()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(500 * time.Millisecond) {
		var out bytes.Buffer
		if err := api.ExportFile(t.Context(), run.ID, contract.ExportChoice{Decision: "all"}, &out); err != nil || !bytes.Equal(out.Bytes(), file) {
			t.Fatalf("of %d bytes %d came out, %v", len(file), out.Len(), err)
		}
		if now, _ := reads(t, s); now > before {
			break
		}
		if time.Now().After(end) {
			t.Fatal("the standby is not read from again")
		}
	}
	seesItself("up to date again", 10)
}
