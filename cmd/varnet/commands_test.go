package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"varnet/internal/contract"
	"varnet/internal/store"
	"varnet/internal/store/migrate"
	"varnet/internal/testkit"
)

// step is a call of a command and what comes of it.
type step struct {
	call string // words with blanks between; $ stands for the test's folder
	exit int
	// out and err are what must stand on standard output and standard error; with
	// exit code 0 nothing may stand on the latter.
	out, err []string
}

func good(call string, out ...string) step { return step{call: call, out: out} }

func failing(call string, err ...string) step { return step{call: call, exit: 1, err: err} }

func wrong(call string, err ...string) step { return step{call: call, exit: 2, err: err} }

// quick is a world whose hosts do not keep one waiting for long.
const quick = `{"name": "quick", "seed": 9, "greylistMs": 300, "outbound": {"blocklist": "blocklist.example"}, "operators": [
	{"name": "postbarn.example", "character": "plain", "domains": ["postbarn.example", "fernhollow.example"], "weight": 60, "real": 0.8},
	{"name": "sundial.example", "character": "catch-all", "domains": ["sundial-nursery.example"], "weight": 20, "real": 0.5},
	{"name": "hedgerow.example", "character": "greylisting", "domains": ["hedgerow-post.example"], "weight": 20, "real": 0.8},
	{"name": "oldquarry.example", "character": "silent", "domains": ["oldquarry.example"], "weight": 4, "real": 0.8},
	{"name": "longgone.example", "character": "absent", "domains": ["longgone.example"], "weight": 10, "real": 0}]}`

// hand is somebody who calls commands of an installation.
type hand struct {
	t      *testing.T
	folder string // $ stands for it in calls
	access []string
	dsn    string
}

func installed(t *testing.T) hand {
	t.Helper()
	t.Parallel()
	h := hand{t: t, folder: t.TempDir()}
	h.put("quick.json", quick)
	i := testkit.World(t, filepath.Join(h.folder, "quick.json"))
	h.dsn = testkit.Database(t)
	s := testkit.Serve(t, append(testkit.Settings(h.dsn, i), "VARNET_ROUNDS=500ms,500ms", "VARNET_PATIENCE=400ms", "VARNET_CATALOGUE_FOLDER="+h.folder))
	h.access = []string{"-server", s.URL, "-key", s.Key}
	var list bytes.Buffer
	if err := i.World.WriteList(&list, 150); err != nil {
		t.Fatal(err)
	}
	h.put("members.csv", list.String())
	h.put("mine.json", `{"for": "Beans only.", "rules": [{"do": "drop", "findings": ["undeliverable"]}], "otherwise": "hold"}`)
	h.put("slip.json", `{"rules": [{"do": "drop", "finding": ["undeliverable"]}]}`)
	h.put("cut.json", `{"rules": [`)
	h.put("lanes.json", `{"rules": [{"of": "operator", "pattern": "postbarn.example", "lanes": 2}]}`)
	h.put("sent.csv", "email\nada@upperloam.example\nwren@orchard.example\n")
	h.put("returned.eml", "From: MAILER-DAEMON@mx.orchard.example\nSubject: Undelivered Mail Returned to Sender\n\n<wren@orchard.example>: host mx.orchard.example said: 550 5.1.1 User unknown\n")
	h.put("rules.json", `{"rules": [{"of": "domain", "pattern": "*.nethermoss.example", "depth": "never", "note": "they list whoever asks"}]}`)
	h.put("theirs.txt", "# kept elsewhere\ntenminutes.example\nquickpost.example\n")
	h.put("odd.txt", "tenminutes.example\nno domain\n")
	h.put("proxies.txt", "socks5://127.0.0.1:9\nhttp://127.0.0.1:9\n")
	return h
}

func (h hand) put(name, content string) {
	h.t.Helper()
	if err := os.WriteFile(filepath.Join(h.folder, name), []byte(content), 0o600); err != nil {
		h.t.Fatal(err)
	}
}

// call calls a command, its words with blanks between.
func (h hand) call(words string) (exit int, out, errOut string) {
	h.t.Helper()
	args := strings.Fields(strings.ReplaceAll(words, "$", h.folder))
	return called(h.t, append(args, h.access...)...)
}

// walk takes steps in their order.
func (h hand) walk(steps ...step) {
	h.t.Helper()
	for _, s := range steps {
		exit, out, errOut := h.call(s.call)
		if exit != s.exit || s.exit != 0 && out != "" || s.exit == 0 && errOut != "" && s.err == nil {
			h.t.Errorf("varnet %s: exit %d, want %d\n%s%s", s.call, exit, s.exit, out, errOut)
			continue
		}
		for _, want := range s.out {
			if !strings.Contains(out, want) {
				h.t.Errorf("varnet %s does not say %q:\n%s", s.call, want, out)
			}
		}
		for _, want := range s.err {
			if !strings.Contains(errOut, want) {
				h.t.Errorf("varnet %s does not say %q on standard error:\n%s", s.call, want, errOut)
			}
		}
	}
}

// TestSchemas: the schema is brought up to date by "migrate" and by the service, unless it
// is told not to; a key is made in no other; one of a newer release is left alone.
func TestSchemas(t *testing.T) {
	t.Parallel()
	dsn := testkit.EmptyDatabase(t)
	run := func(want string, args ...string) {
		t.Helper()
		cmd := testkit.Command([]string{"VARNET_DSN=" + dsn, "VARNET_SECRET=a secret for tests alone, 32 and more"}, args...)
		text, err := cmd.CombinedOutput()
		if !strings.Contains(string(text), want) {
			t.Errorf("varnet %s: %v: %s\nwant %q", strings.Join(args, " "), err, text, want)
		}
	}
	knows := migrate.Known()
	behind := fmt.Sprintf("the database has schema 0, and this release needs %d; run \"varnet migrate\" first", knows)
	run(behind, "key", "new")
	run(behind, "serve", "-migrate", "no", "-listen", "127.0.0.1:0")
	run("-migrate is yes or no", "serve", "-migrate", "perhaps")
	run(fmt.Sprintf("from schema 0 to %d.", knows), "migrate")
	run("there was nothing to do.", "migrate")
	run("varnet_", "key", "new")
	run(fmt.Sprintf("schema %d\n", knows), "version")
	db, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Pool().Exec(t.Context(), "INSERT INTO goose_db_version (version_id, is_applied) VALUES ($1, true)", knows+1); err != nil {
		t.Fatal(err)
	}
	newer := fmt.Sprintf("the database has schema %d, and this release knows %d at most", knows+1, knows)
	for _, args := range [][]string{{"migrate"}, {"serve", "-listen", "127.0.0.1:0"}, {"worker"}, {"key", "new"}} {
		run(newer, args...)
	}
}

// TestInspect shows operators what the database holds.
func TestInspect(t *testing.T) {
	h := installed(t)
	h.walk(good("clean $/members.csv -out $/kept.csv", "Written to "))
	h.access = []string{"-dsn", h.dsn}
	h.walk(
		good("inspect list 1", "members.csv", "150 in 1 block", "at 6 domains", "1, finished, depth mailbox"),
		good("inspect run 1", "of list 1, of the workspace default", "finished", "done, in 1 batch of domains", "mailbox.accepted", "done, round 1"),
		good("inspect parcel 1", "of run 1", "EHLO verify.fernhollow.example", "acceptance"),
		failing("inspect run 99", "there is no run 99"),
		failing("inspect parcel 999", "there is no parcel 999"),
		wrong("inspect", "say what to do: list, run, parcel"),
		wrong("inspect house 1", "say what to do: list, run, parcel"),
		wrong("inspect run first", `"first" is not the number of a run`),
	)
}

// TestCommands takes a list through its life with commands alone, and makes every
// mistake on the way that a hand makes.
func TestCommands(t *testing.T) {
	h := installed(t)
	h.walk(
		good("lists", "There is no list here."),
		good("runs", "There is no run here."),
		good("clean $/members.csv -out $/kept.csv", "150 rows", "rows will be kept.", "Written to "),
		good("lists", "members.csv", "150", "run 1 finished"),
		good("lists estimate 1", "%"),
		good("lists common 1 1", "of"),
		good("lists retain 1 30", "members.csv"),
		good("lists rename 1 Members", "Members"),
		good("lists show 1", "Members", "run 1 finished"),
		good("lists archive 1"),
		good("lists -archived", "Members"),
		good("lists", "There is no list here."),
		good("lists unarchive 1"),
		failing("lists override 1 drop nobody.atall@fernhollow.example", "none of these addresses"),
		wrong("lists retain 1 long", `"long" is not a number of days`),
		wrong("lists common 1 other", `"other" is not the number of a list`),
		wrong("lists override all drop ada@fernhollow.example", `"all" is not the number of a list`),
		wrong("lists frown 1", `there is no "frown"; use one of: show, import, estimate`),
		wrong("lists delete", "LIST is missing"),
		wrong("lists delete 1 2", `unexpected argument "2"`),
		failing("lists delete 99", "lists/99: There is no such record"),
		failing("lists override 1 maybe ada@fernhollow.example", "keep, hold, drop, policy"),
	)
	h.walk( // runs
		good("runs draft 1", "addresses"),
		good("runs draft -depth domain 1", "addresses"),
		good("runs start -depth domain -begin 2031-11-24T06:00 -zone Europe/Berlin 1", "Run 3."),
		good("runs begin 3"),
		step{call: "runs watch 3", out: []string{"of 150 rows"}, err: []string{"addresses"}},
		good("runs", "finished", "Members"),
		good("runs -limit 1", "There are more; the same command with -cursor ", " shows them."),
		good("runs show 1", "finished"),
		good("runs pause 3", "are concluded"),
		failing("runs stop 99", "runs/99/stop: There is no such record"),
		failing("runs again -cause mailbox.frowned 1", `there is no cause "mailbox.frowned"`),
		wrong("runs frown 1", `there is no "frown"`),
		wrong("runs watch", "RUN is missing"),
		wrong("runs watch first", `"first" is not the number of a run`),
		wrong("runs start first", `"first" is not the number of a list`),
		wrong("runs start", "LIST is missing"),
		wrong("runs pause 1 -hours 22:00-06:00", "not defined: -hours"),
		wrong("runs start -begin tomorrow 1", `"tomorrow" is not of the form`),
		wrong("runs start -begin 2031-11-24T06:00 -zone Fernhollow/Hill 1", `the zone "Fernhollow/Hill" is not known`),
		step{call: "runs again -cause exchanger.silent 1", out: []string{"of 150 rows"}, err: []string{"addresses"}},
	)
	h.walk( // policies
		good("policies", "careful (ready-made)", "  1. "),
		good("policies show careful", `"do": "drop"`),
		good("policies save -file $/mine.json", "mine is saved, version 1.", "  1. "),
		good("policies try -file $/mine.json 1", "decision", "drop"),
		good("policies use 1 mine", "of 150 rows"),
		good("policies", "mine (your own, version 1)", "Beans only."),
		good("policies delete mine"),
		failing("policies use 1 mine", "mine"),
		failing("policies save -file $/slip.json", `slip.json: this is not a policy: unknown field "finding"`),
		failing("policies save -file $/cut.json", "this is not a policy"),
		failing("policies save -file $/none.json", "none.json cannot be read: no such file"),
		failing("policies delete careful", "careful"),
		wrong("policies use one mine", `"one" is not the number of a run`),
		wrong("policies try -file $/mine.json one", `"one" is not the number of a run`),
		wrong("policies save", "-file FILE is missing"),
		failing("clean $/members.csv -out $/none.csv -policy mine", `There is no policy named "mine"`),
	)
	h.walk( // catalogues
		good("catalogue add disposable -file $/theirs.txt", "2 entries added."),
		failing("catalogue add disposable -file $/odd.txt", "odd.txt, line 2:"),
		good("catalogue remove disposable tenminutes.example quickpost.example"),
		good("catalogue", "no entries of your own"),
		good("catalogue follow disposable file://$/theirs.txt", "2 entries; its last change added 2 and removed 0."),
		good("check -v ada@tenminutes.example", "Trait:         disposable"),
		good("catalogue read 1", "2 entries"),
		good("catalogue followed", "theirs.txt"),
		failing("catalogue follow disposable file:///etc/passwd", "does not lie in the folder"),
		failing("catalogue follow disposable http://lists.seedlibrary.example/a", "https://"),
		good("catalogue unfollow 1"),
		good("catalogue followed", "No catalogue is followed."),
		good("catalogue shipped role -search info", "info", "counts"),
		good("catalogue except role info"),
		good("catalogue shipped role -search info", "does not count"),
		good("catalogue shipped disposable -limit 1", "There are more; the same command with -cursor ", " shows them."),
		good("catalogue shipped no-reply -search nothing-of-the-kind", "no such entry"),
		good("catalogue remove role info"),
		failing("catalogue shipped fish", "query.kind"),
		wrong("catalogue unfollow x", "is not the number of a followed catalogue"),
		wrong("catalogue add disposable", "name what to add"),
		wrong("catalogue remove disposable", "NAME is missing"),
	)
	h.walk( // check
		good("check -v ada..moss@postbarn.example", "syntax.malformed", "What to do:", "In the text:"),
		good("check -v nobody.atall@fernhollow.example", "Mail host:", "It answered:   550 5.1.1", "Made-up:", "So this host:", "DNS:"),
		good("check -v x@oldquarry.example", "exchanger.silent", "nothing measured yet"),
		good("check -v info@postbran.example", "Trait:         role"),
		wrong("check", "ADDRESS is missing"),
	)
	h.walk( // letters
		good("letters", "No letters are sent"),
		failing("letters test ada@fernhollow.example", "No submission server is set up"),
		good("letters set -host 127.0.0.1 -port 9 -security none -username varnet -password-file $/rules.json -sender varnet@fernhollow.example -base-url http://127.0.0.1:8025", "Letters are sent by 127.0.0.1:9", "with a password"),
		failing("letters test ada@fernhollow.example", "did not take the letter"),
		failing("letters set -host 127.0.0.1 -sender varnet -base-url http://127.0.0.1:8025", "body.sender"),
		good("letters remove"),
		wrong("letters set -host 127.0.0.1", "-sender SENDER is missing"),
	)
	h.walk( // keys
		good("keys", "test", "read,import,run,export,check,manage", "127.0.0.1"),
		good("keys make form -scopes check -days 30 -networks 192.0.2.0/24", "varnet_"),
		good("keys", "form", "check", "192.0.2.0/24"),
		good("keys rotate 2 -overlap 0", "varnet_"),
		failing("keys rotate 2", "Key 2 has ended. Make a new one."),
		good("keys delete 2"),
		failing("keys delete 1", "You are calling with key 1."),
		failing("keys make form -scopes all", "body.scopes"),
		failing("keys make form -networks here", `"here" is not a network`),
		failing("keys rotate 99", "no such record"),
		wrong("keys make", "NAME is missing"),
	)
	h.walk( // what comes back
		good("mailings", "No mailing is registered"),
		good("mailings import $/sent.csv -name Spring", "Of 2 letters sent"),
		good("mailings letters 1", "wren@orchard.example"),
		good("mailings export 1 -out -", "address,return address", "wren@orchard.example,"),
		failing("mailings sent 1", "not waiting to be sent"),
		good("bounces import $/returned.eml", "1 letter bounced for good"),
		failing("bounces import $/rules.json", "holds no message"),
		good("bounces", "bounce"),
		good("bounces outcomes", "Of 2 letters sent"),
		good("bounces sources", "no program calls"),
		failing("bounces make-mailbox Returns -host imap.fernhollow.example -security none -username returns", "without TLS"),
		good("bounces make-webhook Letters", "whsec_"),
		good("bounces sources", "Letters", "/api/v1/bounce-sources/1/call"),
		failing("bounces read-mailbox 1", "nothing to read"),
		good("bounces delete-source 1"),
		failing("bounces delete-source 1", "no such record"),
		good("trials", "are off for this workspace"),
		failing("trials set -host 127.0.0.1 -security none -sender letters@fernhollow.example -servers 127.0.0.1", "body.sender"),
		good("trials set -host 127.0.0.1 -port 9 -security none -sender Library<letters@fernhollow.example> -servers 127.0.0.1 -selector varnet", "v=DKIM1; k=rsa; p="),
		good("trials test", "bad: The DKIM key"),
		failing("trials forecast 99", "no such record"),
		failing("trials stop 1", "None of its letters waits"),
	)
	h.walk( // events and webhooks
		good("events kinds", "run.finished", "webhook.off"),
		good("events log -limit 1", "import.done"),
		good("events log -json", `"code": "import.done"`),
		good("webhooks make http://127.0.0.1:9/varnet -events run.finished,import.done", "whsec_"),
		good("webhooks", "http://127.0.0.1:9/varnet", "import.done,run.finished", "On."),
		good("webhooks change 1 -on no", "Switched off."),
		good("webhooks change 1 -url https://hooks.fernhollow.example/ -on yes", "https://hooks.fernhollow.example/"),
		wrong("webhooks change 1 -on perhaps", "-on is yes or no"),
		good("webhooks secret 1", "whsec_"),
		good("webhooks test 1", "varnet webhooks log 1"),
		good("webhooks log 1"),
		failing("webhooks attempts 99", "no such record"),
		failing("webhooks resend 99", "no such record"),
		failing("webhooks make http://hooks.fernhollow.example/ -events run.finished", "body.url"),
		failing("webhooks make https://hooks.fernhollow.example/ -events run.vanished", "body.codes[0]"),
		wrong("webhooks make https://hooks.fernhollow.example/", "-events KINDS is missing"),
		good("webhooks delete 1"),
	)
	h.put("nightly.json", `{"name": "Members, every night", "source": "list", "listId": 1, "rule": "FREQ=DAILY", "time": "03:00", "zone": "Europe/Berlin", "policy": "careful", "then": "nothing", "tell": "always"}`)
	h.put("often.json", `{"name": "Members", "source": "list", "listId": 1, "rule": "FREQ=SECONDLY", "time": "03:00", "policy": "careful", "then": "nothing", "tell": "always"}`)
	h.walk( // routines
		good("routines draft -file $/nightly.json", "Every day at 03:00, Europe/Berlin: reads the newest import of", "Due "),
		good("routines make -file $/nightly.json", "Members, every night", "Every day at 03:00"),
		good("routines", "Members, every night", "not run yet"),
		good("routines show 1", `"rule": "FREQ=DAILY"`),
		good("routines change 1 -file $/nightly.json", "Members, every night"),
		good("routines run 1 -dry", "Time 1 has begun"),
		good("routines times 1", "time"),
		good("routines pause 1", "paused"),
		good("routines resume 1", "Every day at 03:00"),
		failing("routines make -file $/often.json", "hourly at most"),
		failing("routines make -file $/slip.json", "is not a routine"),
		failing("routines go-on 1 99", "no such record"),
		wrong("routines leave 1", "TIME is missing"),
		good("routines delete 1"),
		wrong("watch", "FOLDER is missing"),
		failing("watch $/nowhere", "is not a folder that can be read"),
		wrong("watch $ -pattern [", "a pattern of file names"),
	)
	h.walk( // team and audit trail, with a key
		good("team", "Ada Moss", "ada.moss@fernhollow.example", "owner"),
		failing("team invite bea.quill@fernhollow.example reader", "does not have the scope “team”"),
		wrong("team invite bea.quill@fernhollow.example guest", `there is no role "guest"`),
		wrong("team role ada owner", `"ada" is not the number of a person`),
		good("team workspaces", "You are in no workspace."),
		good("team rules", "There are no rules"),
		good("team rules set $/rules.json", "Addresses at *.nethermoss.example are never asked about."),
		good("team rules -json", `"pattern": "*.nethermoss.example"`),
		failing("team rules set $/lanes.json", "set for the installation"),
		good("audit", "delete-key", "keys/2", "key 1", "make-key"),
		good("audit -action make-key -days 1", "make-key"),
		good("audit -installation", "set-letter-server"),
		good("audit -action fish", "No entry matches."),
		good("audit verify", "as they were written"),
		good("audit export -out $/audit.jsonl"),
		wrong("audit export", "-out FILE is missing"),
	)
	h.walk( // installation
		good("installation", "People sign up by invitation.", "default", "150", "any number"),
		good("installation set -sign-up closed -keep-days 90", "Nobody signs up.", "at most 90 days"),
		good("installation limit 1 1000", "1,000"),
		failing("installation limit 99 1000", "no such record"),
		failing("installation set -sign-up everybody", "body.signUp"),
		failing("installation set -issuer http://elsewhere.example", "https"),
		wrong("installation limit 1 many", "ROWS is a number"),
		good("installation set -sign-up invitation -keep-days 0", "People sign up by invitation."),
		good("installation limit 1 0", "any number"),
	)
	h.walk( // workers
		good("workers", "lanes at work", "direct"),
		good("health", "1 worker with", "waiting", "postponed"),
		good("health -json", `"failing": []`),
		failing("workers drain nobody", "nobody"),
		wrong("workers drain", "ID is missing"),
	)
	h.reported()
}

// reported writes the report in both forms, and leaves nothing where it cannot.
func (h hand) reported() {
	h.t.Helper()
	h.walk(
		good("report -out $/report.pdf 1", "Written to "),
		good("report -out $/report.html -zone Europe/Berlin 1", "Written to "),
		failing("report -out $/none.pdf 99", "99"),
		failing("report -out $/none.html -zone Fernhollow/Hill 1", "Fernhollow/Hill"),
		failing("report -out $/no/folder.pdf 1", "cannot be written"),
		wrong("report -out $/report.txt 1", "ends in .pdf or .html"),
		wrong("report -out $/report.pdf first", `"first" is not the number of a run`),
	)
	pdf, err := os.ReadFile(filepath.Join(h.folder, "report.pdf"))
	if err != nil || !bytes.HasPrefix(pdf, []byte("%PDF-1.")) || !bytes.Contains(pdf, []byte("%%EOF")) {
		h.t.Errorf("a PDF of %d bytes, %v", len(pdf), err)
	}
	html, err := os.ReadFile(filepath.Join(h.folder, "report.html"))
	for _, want := range []string{"members.csv", "of 150 rows", "deliverable", "<svg"} {
		if err != nil || !strings.Contains(string(html), want) {
			h.t.Errorf("the report does not say %q, %v", want, err)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(h.folder, "*none*.*")); len(left) > 0 {
		h.t.Errorf("left behind: %q", left)
	}
}

// TestOutboundCommands sets outbound up, tests it and takes it apart again.
func TestOutboundCommands(t *testing.T) {
	h := installed(t)
	h.walk(
		good("outbound", "Outbound is", "from the settings", "starts with 3 sessions"),
		good("outbound test", "●"),
		good("outbound cap 3", "At most 3 sessions at a time"),
		good("outbound add identity verify.fernhollow.example check@fernhollow.example", "identity verify.fernhollow.example"),
		good("outbound add route -file $/proxies.txt", "socks5://127.0.0.1:9", "connect://127.0.0.1:9"),
		good("outbound test", "○", "To do:"),
		good("outbound remove-failed route", "2 removed."),
		good("outbound add blocklist blocklist.example", "blocklist blocklist.example"),
		failing("outbound remove 99", "part 99"),
		failing("outbound add route smoke-signals", "Line 1: a route begins with direct"),
		wrong("outbound remove", "ID is missing"),
		wrong("outbound remove first", `"first" is not the number of a part`),
		wrong("outbound add route", "name what to add"),
		wrong("outbound frown", `there is no "frown"`),
		wrong("outbound cap many", `not "many"`),
		wrong("outbound cap 21", "a number from 1 to 20"),
		good("outbound rules", "There are no rules"),
		good("outbound rules set $/rules.json", "*.nethermoss.example"),
		good("outbound rules -json", `"depth": "never"`),
		failing("outbound rules set $/proxies.txt", "holds no rules as JSON"),
		wrong("outbound rules forget", "use one of: set"),
		good("outbound try ada@post.nethermoss.example", "nethermoss"),
		good("outbound try -json ada@postbarn.example", `"lanes": 3`),
		wrong("outbound try", "ADDRESS is missing"),
		good("outbound operators", "Nothing has been learnt"),
		good("clean $/members.csv -out $/kept.csv", "rows will be kept."),
		good("outbound operators postbarn", "operator", "postbarn.example"),
		good("outbound forget postbarn.example", "What was learnt about postbarn.example is forgotten; it starts again with 3 sessions."),
		good("outbound operators postbarn", "Nothing has been learnt about an operator of that name yet."),
		failing("outbound forget nobody.example", "nobody.example"),
		wrong("outbound forget", "OPERATOR is missing"),
	)
	_, out, _ := h.call("outbound -json")
	var side contract.Outbound
	if err := json.Unmarshal([]byte(out), &side); err != nil || side.Pace.Cap != 3 || len(side.Rules) != 1 || len(side.Parts) < 4 {
		t.Errorf("%v: %s", err, out)
	}
}

// TestProgressOnATerminal: what is drawn is drawn over, no line is broken in two,
// and nothing from elsewhere moves the cursor.
func TestProgressOnATerminal(t *testing.T) {
	var b bytes.Buffer
	p := progress{to: &b, terminal: true, waits: 1}
	soon := time.Now().Add(90 * time.Second)
	r := contract.Run{State: "running", Addresses: 1000, Done: 250, PerMinute: 1200, Postponed: 40, NextRound: &soon,
		ExpectedEnd: &contract.Expected{At: soon, From: soon.Add(-time.Minute), To: soon.Add(time.Minute)},
		Waits: []contract.Wait{
			{Sentence: "200 addresses at postbarn.example\x1b[2J wait" + strings.Repeat(", and wait", 20)},
			{Sentence: "not shown"},
		}}
	p.show(r)
	lines := strings.Split(b.String(), "\n")
	if len(lines) != 4 || !strings.HasPrefix(lines[0], "██████░░░░░░░░░░░░░░░░░░  250 of 1,000 addresses, 1,200 a minute") ||
		!strings.HasPrefix(lines[1], "40 put off by their hosts until ") || !strings.HasPrefix(lines[2], "expected end about ") {
		t.Errorf("drawn:\n%s", b.String())
	}
	for _, l := range lines {
		if n := len([]rune(l)); n >= usualWidth || strings.Contains(l, "\x1b") || strings.Contains(l, "not shown") {
			t.Errorf("a line of %d letters: %q", n, l)
		}
	}
	b.Reset()
	r.Postponed, r.ExpectedEnd, r.Waits, r.Done = 0, nil, nil, 1000
	p.show(r)
	if got := b.String(); !strings.HasPrefix(got, "\r\x1b[K"+strings.Repeat("\x1b[1A\x1b[K", 3)+"████████████████████████  1,000 of 1,000") {
		t.Errorf("four lines are drawn over by %q", got)
	}
	b.Reset()
	p.end()
	p.end()
	if b.String() != "\r\x1b[K" {
		t.Errorf("one line is taken away by %q", b.String())
	}
	next := contract.Expected{At: soon, From: soon, To: soon}
	if got := expected(contract.Run{ExpectedEnd: &next}); len(got) != 1 || !strings.HasPrefix(got[0], "next round at ") {
		t.Errorf("a run that waits says %q", got)
	}
}

// TestProgressElsewhere: a plain line now and then, without anything that only a
// terminal understands.
func TestProgressElsewhere(t *testing.T) {
	var b bytes.Buffer
	p := progress{to: &b, waits: 8}
	for range 3 {
		p.show(contract.Run{State: "running", Sentence: "10 of 20 addresses are concluded."})
	}
	p.show(contract.Run{State: "waiting", Sentence: "20 wait\x1b."})
	p.end()
	if got := b.String(); got != "running: 10 of 20 addresses are concluded.\nwaiting: 20 wait\ufffd.\n" {
		t.Errorf("written: %q", got)
	}
}
