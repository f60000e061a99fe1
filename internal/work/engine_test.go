package work_test

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"time"

	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/policy"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/smtp"
	"varnet/internal/intake"
	"varnet/internal/practice"
	"varnet/internal/secret"
	"varnet/internal/store"
	"varnet/internal/testkit"
	"varnet/internal/work"
)

// plant is an engine at work on a practice internet.
type plant struct {
	*work.Engine
	t         *testing.T
	net       *practice.Internet
	workspace int64
}

func newPlant(t *testing.T, world string, change ...func(*work.Config)) *plant {
	t.Helper()
	t.Parallel()
	i := testkit.World(t, world)
	c := work.Config{Rounds: pace.Rounds{time.Second}, Lanes: 100}
	c.Reference, c.Log = []string{"fernhollow.example"}, slog.New(slog.NewTextHandler(t.Output(), &slog.HandlerOptions{Level: slog.LevelWarn}))
	c.Prober = probe.New(probe.DirectDialer(true), smtp.Identity{Name: "verify.fernhollow.example", Sender: "check@fernhollow.example"})
	c.Prober.Port, c.Prober.Limits.Waits = i.Port, smtp.DefaultWaits().All(500*time.Millisecond)
	var err error
	if c.Resolver, err = resolve.New([]string{i.DNS}, true); err != nil {
		t.Fatal(err)
	}
	if c.Secrets, err = secret.New("a secret for tests alone, 32 and more"); err != nil {
		t.Fatal(err)
	}
	if c.Store, err = store.Open(t.Context(), testkit.Database(t)); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Store.Close)
	if err := c.Store.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	for _, do := range change {
		do(&c)
	}
	p := &plant{t: t, net: i}
	if p.Engine, err = work.New(c); err != nil {
		t.Fatal(err)
	}
	if err := p.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		if err := p.Stop(ctx); err != nil {
			t.Error(err)
		}
	})
	w, err := c.Store.NewWorkspace(t.Context(), "seed library")
	if err != nil {
		t.Fatal(err)
	}
	p.workspace = w.ID
	return p
}

func (p *plant) importer() *intake.Importer {
	return p.Importer
}

// bring imports a list of the world's people.
func (p *plant) bring(rows int) store.List {
	p.t.Helper()
	var b bytes.Buffer
	if err := p.net.World.WriteList(&b, rows); err != nil {
		p.t.Fatal(err)
	}
	l, err := p.importer().Import(p.t.Context(), intake.File{Workspace: p.workspace, Name: "members"}, &b)
	if err != nil {
		p.t.Fatal(err)
	}
	return l
}

func (p *plant) start(l store.List, reuseDays int) store.Run {
	p.t.Helper()
	r := store.Run{WorkspaceID: p.workspace, ListID: l.ID, Depth: store.DepthMailbox, Policy: policy.Careful(), ReuseDays: reuseDays}
	if err := p.StartRun(p.t.Context(), &r, store.By{}); err != nil {
		p.t.Fatal(err)
	}
	return r
}

// finished waits for a run's end.
func (p *plant) finished(run int64) store.Run {
	p.t.Helper()
	for range 1800 {
		r, err := p.Store.RunByID(p.t.Context(), run)
		if err != nil {
			p.t.Fatal(err)
		}
		if r.FinishedAt != nil {
			return r
		}
		time.Sleep(50 * time.Millisecond)
	}
	p.t.Fatalf("run %d does not end", run)
	return store.Run{}
}

// settled waits until what is in flight came to its end.
func (p *plant) settled() {
	p.t.Helper()
	for range 1200 {
		var claimed int
		if err := p.Store.Pool().QueryRow(p.t.Context(), "SELECT count(*) FROM parcel WHERE state = 'claimed'").Scan(&claimed); err != nil {
			p.t.Fatal(err)
		}
		if claimed == 0 {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	p.t.Fatal("parcels stay claimed")
}

// asked is how many questions the hosts were asked so far.
func (p *plant) asked() (n int) {
	for _, h := range p.net.Hosts() {
		n += h.Stats().Recipients
	}
	return n
}

// counts returns how many addresses have each finding.
func (p *plant) counts(run store.Run) map[finding.Finding]int64 {
	p.t.Helper()
	byVerdict, err := p.Store.ResultCounts(p.t.Context(), run, store.ResultFilter{})
	if err != nil {
		p.t.Fatal(err)
	}
	verdicts, err := p.Store.Verdicts(p.t.Context())
	if err != nil {
		p.t.Fatal(err)
	}
	out := map[finding.Finding]int64{}
	for id, n := range byVerdict {
		out[verdicts[id].Finding] += n
	}
	return out
}

func total(counts map[finding.Finding]int64) (n int64) {
	for _, c := range counts {
		n += c
	}
	return n
}

// TestAnEngineAtWork takes a list through its life: drafted, run, run again with
// what is known, and asked again about what is not.
func TestAnEngineAtWork(t *testing.T) {
	p := newPlant(t, "fernhollow")
	l := p.bring(200)
	all := l.Addresses + l.Malformed
	draft, err := p.Draft(t.Context(), l, store.Run{WorkspaceID: p.workspace, ListID: l.ID, Depth: store.DepthMailbox, ReuseDays: 30})
	if err != nil || draft.Reused != 0 || draft.Ask+draft.Hopeless != l.Addresses || draft.Operators < 5 || draft.LookedUp < l.Addresses*9/10 {
		t.Errorf("draft %+v of %d addresses, %v", draft, l.Addresses, err)
	}
	run := p.finished(p.start(l, 0).ID)
	found := p.counts(run)
	if total(found) != all || found[finding.Deliverable] < all/3 || found[finding.CatchAll] == 0 {
		t.Fatalf("found %v of %d", found, all)
	}
	p.holdTruth(run)

	draft, err = p.Draft(t.Context(), l, store.Run{WorkspaceID: p.workspace, ListID: l.ID, Depth: store.DepthMailbox, ReuseDays: 30})
	if err != nil || draft.Reused < found[finding.Deliverable] || draft.Ask >= l.Addresses/2 {
		t.Errorf("draft of what is known %+v, %v", draft, err)
	}
	before := p.asked()
	next := p.finished(p.start(l, 30).ID)
	if again := p.counts(next); again[finding.Deliverable] < found[finding.Deliverable] || total(again) != all || next.Plan.Reused != draft.Reused {
		t.Errorf("with what is known %v, %d taken over; before %v, %d drafted", again, next.Plan.Reused, found, draft.Reused)
	}
	if n := int64(p.asked() - before); n > 4*(l.Addresses-next.Plan.Reused) {
		t.Errorf("%d questions about %d addresses", n, l.Addresses-next.Plan.Reused)
	}
	p.holdAskedAgain(run, found)
}

// holdTruth holds what was found against the truth.
func (p *plant) holdTruth(run store.Run) {
	p.t.Helper()
	results, err := p.Store.Results(p.t.Context(), run, store.ResultFilter{Limit: 10_000})
	if err != nil {
		p.t.Fatal(err)
	}
	verdicts, err := p.Store.Verdicts(p.t.Context())
	if err != nil {
		p.t.Fatal(err)
	}
	for _, r := range results {
		if r.Mailbox == nil {
			continue
		}
		truth, v := p.net.World.Truth(practice.Canonical(*r.Mailbox)), verdicts[r.Verdict]
		if truth.Refutes(v.Finding) {
			p.t.Errorf("%s is called %s (%s); the truth is %+v", *r.Mailbox, v.Finding, v.Cause, truth)
		}
	}
}

// holdAskedAgain asks again about what is undecided: all else stands.
func (p *plant) holdAskedAgain(run store.Run, found map[finding.Finding]int64) {
	p.t.Helper()
	verdicts, err := p.Store.Verdicts(p.t.Context())
	if err != nil {
		p.t.Fatal(err)
	}
	var open []int32
	for id, v := range verdicts {
		if v.Finding == finding.Undecided {
			open = append(open, id)
		}
	}
	n, err := p.AskAgain(p.t.Context(), run, open, nil, store.By{})
	if err != nil || n != found[finding.Undecided] || n == 0 {
		p.t.Fatalf("%d are asked again, %v; %d were undecided", n, err, found[finding.Undecided])
	}
	after := p.counts(p.finished(run.ID))
	if total(after) != total(found) || after[finding.Deliverable] < found[finding.Deliverable] || after[finding.Undecided] > found[finding.Undecided] {
		p.t.Errorf("asked again: %v; before %v", after, found)
	}
}

// goOutAsTheProber leaves the engine without a route of its own: it goes out by the prober's.
func (p *plant) goOutAsTheProber() {
	p.t.Helper()
	parts, err := p.Store.OutboundParts(p.t.Context())
	if err != nil {
		p.t.Fatal(err)
	}
	for _, part := range parts {
		if _, err := p.Outbound.Remove(p.t.Context(), part.ID); err != nil {
			p.t.Fatal(err)
		}
	}
}

// faultyAtFirst is a network that has a fault of ours come to light some times, and is well then.
type faultyAtFirst struct {
	probe.Dialer
	left atomic.Int32
}

func (f *faultyAtFirst) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	if f.left.Add(-1) >= 0 {
		panic("a place beyond the end")
	}
	return f.Dialer.DialContext(ctx, network, addr)
}

// TestAFaultIsTriedAgain: jobs that come upon a fault of ours say so in the log, with where it was, and are tried again; the
// run comes to its end, with a result of every address.
func TestAFaultIsTriedAgain(t *testing.T) {
	network, log := &faultyAtFirst{}, &testkit.Log{}
	p := newPlant(t, "fernhollow", func(c *work.Config) {
		network.Dialer, c.Prober.Way.Dialer = c.Prober.Way.Dialer, network
		c.Log = slog.New(slog.NewTextHandler(log, nil))
	})
	p.goOutAsTheProber()
	network.left.Store(3)
	l := p.bring(200)
	run := p.finished(p.start(l, 0).ID)
	if found := p.counts(run); total(found) != l.Addresses+l.Malformed {
		t.Errorf("found %v of %d", found, l.Addresses+l.Malformed)
	}
	p.holdTruth(run)
	if said := log.String(); !strings.Contains(said, "level=ERROR msg=\"a job came upon a fault, and is tried again\" kind=") || !strings.Contains(said, "a place beyond the end") || !strings.Contains(said, "faultyAtFirst") {
		t.Errorf("the log says %s", said)
	}
}

// altered is a network that alters what hosts say, line by line, without the line ends.
type altered struct {
	probe.Dialer
	alter func(line string) string
}

func (a altered) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	conn, err := a.Dialer.DialContext(ctx, network, addr)
	if err != nil {
		return nil, err
	}
	return &alteredConn{Conn: conn, in: bufio.NewReader(conn), alter: a.alter}, nil
}

type alteredConn struct {
	net.Conn
	in    *bufio.Reader
	alter func(line string) string
	left  []byte
}

func (c *alteredConn) Read(p []byte) (int, error) {
	if len(c.left) == 0 {
		line, err := c.in.ReadString('\n')
		if err != nil {
			return 0, err
		}
		c.left = []byte(c.alter(strings.TrimRight(line, "\r\n")) + "\r\n")
	}
	n := copy(p, c.left)
	c.left = c.left[n:]
	return n, nil
}

// TestWordsNoDatabaseTakes: what hosts say is written down whatever it holds, and wherever it is cut.
func TestWordsNoDatabaseTakes(t *testing.T) {
	atLength := func(line string) string {
		if line == "" || line[0] != '4' && line[0] != '5' {
			return line
		}
		return line + " \x00" + strings.Repeat("семена ", 80) // letters of two bytes
	}
	p := newPlant(t, "fernhollow", func(c *work.Config) { c.Prober.Way.Dialer = altered{c.Prober.Way.Dialer, atLength} })
	p.goOutAsTheProber()
	l := p.bring(150)
	run := p.finished(p.start(l, 0).ID)
	if found := p.counts(run); total(found) != l.Addresses+l.Malformed {
		t.Errorf("found %v of %d", found, l.Addresses+l.Malformed)
	}
	p.holdTruth(run)
}

// TestHostsThatSayAnything: whatever comes over the wire, no job fails over it, and each address has a result in the end.
func TestHostsThatSayAnything(t *testing.T) {
	log := &testkit.Log{}
	anything := func(line string) string {
		if rand.IntN(12) > 0 {
			return line
		}
		at := rand.IntN(len(line) + 1)
		noise := make([]byte, rand.IntN(40))
		for i := range noise {
			noise[i] = byte(rand.IntN(256))
		}
		switch rand.IntN(8) {
		case 0:
			return line[:at] + string(noise) + line[at:]
		case 1:
			return line[:at]
		case 2:
			return string(noise)
		case 3:
			return line + "\r\n" + line
		case 4:
			return line[:at] + strings.Repeat("\xd1\x81", rand.IntN(3000)) + line[at:]
		case 5:
			return strings.Repeat(line[:min(3, len(line))]+"-and so on\r\n", rand.IntN(300)) + line
		case 6:
			return fmt.Sprintf("%d.%d.%d %s", rand.IntN(700), rand.IntN(9), rand.IntN(99), line)
		}
		return strings.ToUpper(line[:at]) + "\r" + line[at:]
	}
	p := newPlant(t, "fernhollow", func(c *work.Config) {
		c.Prober.Way.Dialer = altered{c.Prober.Way.Dialer, anything}
		c.Log = slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: slog.LevelWarn}))
	})
	p.goOutAsTheProber()
	l := p.bring(400)
	run := p.finished(p.start(l, 0).ID)
	if found := p.counts(run); total(found) != l.Addresses+l.Malformed {
		t.Errorf("found %v of %d", found, l.Addresses+l.Malformed)
	}
	if said := log.String(); strings.Contains(said, "a job ") {
		t.Errorf("the log says %s", said)
	}
}

// TestAFailureIsTriedAgain: jobs whose results the database does not take at first say so in the log, the first times and
// not each time, and are tried again; the run comes to its end.
func TestAFailureIsTriedAgain(t *testing.T) {
	log := &testkit.Log{}
	p := newPlant(t, "fernhollow", func(c *work.Config) { c.Log = slog.New(slog.NewTextHandler(log, nil)) })
	for _, statement := range []string{
		`CREATE SEQUENCE refused`, // which a transaction that is taken back does not take back
		`CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS
			$$ BEGIN IF nextval('refused') <= 3 THEN RAISE EXCEPTION 'no room is left'; END IF; RETURN NEW; END $$`,
		`CREATE TRIGGER refusing BEFORE INSERT ON batch FOR EACH ROW EXECUTE FUNCTION refuse()`,
	} {
		if _, err := p.Store.Pool().Exec(t.Context(), statement); err != nil {
			t.Fatal(err)
		}
	}
	l := p.bring(40)
	run := p.finished(p.start(l, 0).ID)
	if found := p.counts(run); total(found) != l.Addresses+l.Malformed {
		t.Errorf("found %v of %d", found, l.Addresses+l.Malformed)
	}
	said := log.String()
	if !strings.Contains(said, `level=WARN msg="a job failed, and is tried again" kind=`) || !strings.Contains(said, "no room is left") {
		t.Errorf("the log says %s", said)
	}
	if strings.Contains(said, "attempt=3 ") {
		t.Errorf("each failure of a job is told: %s", said)
	}
}

// TestAnEngineStopsRuns: what is known stays, nothing is asked any more, and a run
// that waits goes on where it was.
func TestAnEngineStopsRuns(t *testing.T) {
	p := newPlant(t, "fernhollow")
	l := p.bring(150)
	run := p.start(l, 0)
	if err := p.Store.PauseRun(t.Context(), p.workspace, run.ID, nil); err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond) // a claim may be under way
	p.settled()
	still := p.asked()
	time.Sleep(500 * time.Millisecond)
	if n := p.asked(); n != still {
		t.Errorf("%d questions while the run waits", n-still)
	}
	if err := p.ResumeRun(t.Context(), p.workspace, run.ID); err != nil {
		t.Fatal(err)
	}
	if got := total(p.counts(p.finished(run.ID))); got != l.Addresses+l.Malformed {
		t.Errorf("%d results of %d", got, l.Addresses+l.Malformed)
	}
	other := p.start(l, 0)
	if err := p.Store.StopRun(t.Context(), p.workspace, other.ID); err != nil {
		t.Fatal(err)
	}
	stopped := p.finished(other.ID)
	if stopped.State != store.Stopped && stopped.State != store.Finished {
		t.Errorf("a stopped run is %s", stopped.State)
	}
	if _, err := p.AskAgain(t.Context(), stopped, nil, nil, store.By{}); stopped.State == store.Stopped && (err == nil || !strings.Contains(err.Error(), "not finished")) {
		t.Errorf("a stopped run is asked again: %v", err)
	}
}

// TestListsAreDeletedWhileRunsStart: who deletes a list and who begins a run of it do not
// wait for each other, whoever comes first.
func TestListsAreDeletedWhileRunsStart(t *testing.T) {
	p := newPlant(t, "fernhollow")
	for n := range 40 {
		l := p.bring(25)
		var starting sync.WaitGroup
		for range 2 {
			starting.Go(func() {
				r := store.Run{WorkspaceID: p.workspace, ListID: l.ID, Depth: store.DepthMailbox, Policy: policy.Careful()}
				if err := p.StartRun(t.Context(), &r, store.By{}); err != nil && !errors.Is(err, store.ErrNotFound) {
					t.Errorf("a run of list %d does not start: %v", n, err)
				}
			})
		}
		time.Sleep(time.Duration(n) * 700 * time.Microsecond)
		if err := p.Store.DeleteList(t.Context(), p.workspace, l.ID); err != nil {
			t.Errorf("list %d is not deleted: %v", n, err)
		}
		starting.Wait()
	}
	time.Sleep(1100 * time.Millisecond) // statistics are told once a second
	var deadlocks int
	if err := p.Store.Pool().QueryRow(t.Context(), "SELECT deadlocks FROM pg_stat_database WHERE datname = current_database()").Scan(&deadlocks); err != nil || deadlocks > 0 {
		t.Errorf("%d deadlocks, %v", deadlocks, err)
	}
}

// TestAllDueListsAreDeleted: lists whose retention has ended are deleted in one look, however many they are.
func TestAllDueListsAreDeleted(t *testing.T) {
	p := newPlant(t, "fernhollow")
	for range 45 {
		p.bring(1)
	}
	kept := p.bring(1)
	for _, statement := range []string{
		fmt.Sprintf("UPDATE list SET created_at = now() - interval '91 days' WHERE id <> %d", kept.ID),
		"INSERT INTO river_job (kind, args, queue, max_attempts) VALUES ('retention', '{}', 'default', 1)",
	} {
		if _, err := p.Store.Pool().Exec(t.Context(), statement); err != nil {
			t.Fatal(err)
		}
	}
	for end, left := time.Now().Add(time.Minute), 0; left != 1; time.Sleep(50 * time.Millisecond) {
		if err := p.Store.Pool().QueryRow(t.Context(), "SELECT count(*) FROM list").Scan(&left); err != nil {
			t.Fatal(err)
		}
		if time.Now().After(end) {
			t.Fatalf("%d lists are left", left)
		}
	}
	if _, err := p.Store.List(t.Context(), p.workspace, kept.ID); err != nil {
		t.Errorf("the list whose time has not come: %v", err)
	}
}

// TestAHostThatAnswersByChance is asked on several lanes at once, each about few: what it
// told the first is asked again when another has found it out.
func TestAHostThatAnswersByChance(t *testing.T) {
	world := filepath.Join(t.TempDir(), "chance.json")
	if err := os.WriteFile(world, []byte(`{"name": "chance", "seed": 4, "greylistMs": 1000, "outbound": {}, "operators": [
		{"name": "medlar.example", "character": "accepts-by-chance", "domains": ["medlar.example"], "weight": 1, "real": 0.5}]}`), 0o600); err != nil {
		t.Fatal(err)
	}
	if wrong := foundByChance(newPlant(t, world)); wrong != "" {
		// It refuses all made-up mailboxes once in 1,024 times, and twice in a row hardly ever.
		if wrong = foundByChance(newPlant(t, world)); wrong != "" {
			t.Error(wrong)
		}
	}
}

// foundByChance returns what is wrong where something but undecided is found, "" for nothing.
func foundByChance(p *plant) string {
	for _, rows := range []int{12, 45, 100} {
		l := p.bring(rows)
		run := p.finished(p.start(l, 0).ID)
		if found := p.counts(run); found[finding.Undecided] != l.Addresses || total(found) != l.Addresses+l.Malformed {
			return fmt.Sprintf("of %d addresses %v", l.Addresses, found)
		}
	}
	return ""
}

// TestLanesShareWhatIsLeft: a slow operator is asked on all its lanes to the end, and
// a host that is gone teaches nothing of its speed.
func TestLanesShareWhatIsLeft(t *testing.T) {
	world := filepath.Join(t.TempDir(), "slow.json")
	if err := os.WriteFile(world, []byte(`{"name": "slow", "seed": 4, "greylistMs": 1000, "outbound": {}, "operators": [
		{"name": "quince.example", "character": "deliberate", "domains": ["quince.example"], "weight": 3, "real": 0.9},
		{"name": "medlar.example", "character": "refuses", "domains": ["medlar.example"], "weight": 1, "real": 0.9}]}`), 0o600); err != nil {
		t.Fatal(err)
	}
	p := newPlant(t, world)
	l := p.bring(400)
	run := p.finished(p.start(l, 0).ID)
	if found := p.counts(run); total(found) != l.Addresses+l.Malformed || found[finding.Undecided] == 0 {
		t.Errorf("found %v of %d", found, l.Addresses+l.Malformed)
	}
	p.holdTruth(run)
	var addresses, parcels, least int
	if err := p.Store.Pool().QueryRow(t.Context(), "SELECT sum(addresses), count(*), min(addresses) FROM parcel WHERE lane_key = 'quince.example' AND state = 'done'").Scan(&addresses, &parcels, &least); err != nil {
		t.Fatal(err)
	}
	if cut := pace.Cut(addresses, false); parcels <= len(cut) {
		t.Errorf("%d addresses were asked about in %d parcels, planned as %v", addresses, parcels, cut)
	}
	for _, h := range p.net.Hosts() {
		if most := h.Stats().MostOpen; strings.HasSuffix(h.Name, "quince.example") && most != pace.DefaultCap {
			t.Errorf("at most %d sessions were open, want %d", most, pace.DefaultCap)
		}
	}
	speeds, err := p.Store.Speeds(t.Context(), []string{"quince.example", "medlar.example"})
	if err != nil || speeds["quince.example"] < 2 || speeds["quince.example"] > 30 || speeds["medlar.example"] != 0 {
		t.Errorf("speeds %v, %v", speeds, err)
	}
}

// TestNothingHalfIsBroughtIn: what breaks off, or holds no address, leaves nothing.
func TestNothingHalfIsBroughtIn(t *testing.T) {
	p := newPlant(t, "fernhollow")
	var b bytes.Buffer
	if err := p.net.World.WriteList(&b, 3000); err != nil {
		t.Fatal(err)
	}
	broken := errors.New("the line is dead")
	half := append([]byte("\xff\xfe"), bytes.Repeat([]byte("a\x00@\x00b\x00.\x00x\x00\n\x00"), 60_000)...)
	for what, c := range map[string]struct {
		file io.Reader
		says string
	}{
		"broken off":        {io.MultiReader(&b, iotest.ErrReader(broken)), "the line is dead"},
		"half a letter":     {bytes.NewReader(append(half, 0x3c, 0xd8)), "line 60001: half a letter"},
		"no rows":           {strings.NewReader("e-mail\n"), ""},
		"no address":        {strings.NewReader("name\nAda\nBen\n"), ""},
		"nothing":           {strings.NewReader(""), "empty"},
		"a column too many": {strings.NewReader("e-mail\nada@seed.example\n"), "no column 10"},
	} {
		in := intake.File{Workspace: p.workspace, Name: what}
		if what == "a column too many" {
			in.AddressColumns = []int{9}
		}
		if _, err := p.importer().Import(t.Context(), in, c.file); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if lists, err := p.Store.Lists(t.Context(), p.workspace, store.ListFilter{Order: store.NewestFirst, Limit: 10}); err != nil || len(lists) != 0 {
		t.Errorf("%d lists are left, %v", len(lists), err)
	}
	var rows int
	if err := p.Store.Pool().QueryRow(t.Context(), "SELECT (SELECT count(*) FROM row_block) + (SELECT count(*) FROM list_part)").Scan(&rows); err != nil || rows != 0 {
		t.Errorf("%d records are left, %v", rows, err)
	}
}
