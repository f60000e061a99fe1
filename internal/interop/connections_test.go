//go:build interop

package interop

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// contactsEach is how many contacts each place has; VARNET_INTEROP_CONTACTS says another number.
var contactsEach = func() int {
	if n, err := strconv.Atoi(os.Getenv("VARNET_INTEROP_CONTACTS")); err == nil {
		return n
	}
	return 5000
}()

// somebody is a contact as a place is filled with it.
type somebody struct {
	number    int
	name      string
	addresses []string
	note      string
}

// everybody are people of the world, some with several addresses, some with none, with umlauts,
// and with notes of 10 KB.
func everybody(t *testing.T, w *practice.World) (out []somebody) {
	t.Helper()
	var list bytes.Buffer
	if err := w.WriteList(&list, contactsEach+200); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&list).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	taken := map[string]bool{}
	for n, r := range rows[1:] {
		p := somebody{number: n + 1, name: r[1], note: "Joined " + r[3] + "; grows " + r[5] + ", söt & <bitter>"}
		if a := strings.TrimSpace(r[2]); plain(a) && !taken[strings.ToLower(a)] {
			taken[strings.ToLower(a)] = true
			p.addresses = []string{a}
		}
		switch {
		case n%500 == 7:
			p.note += "\n" + strings.Repeat("Ä long note. ", 800)
		case n%100 == 3 && len(p.addresses) > 0:
			p.addresses = append(p.addresses, fmt.Sprintf("second.%d@homeserver.example", n))
		}
		if out = append(out, p); len(out) == contactsEach {
			break
		}
	}
	return out
}

// plain reports whether an address is one that every place takes.
func plain(a string) bool {
	local, domain, ok := strings.Cut(a, "@")
	return ok && local != "" && strings.Contains(domain, ".") && !strings.ContainsAny(a, " <>\"") && !strings.Contains(a, "..") && !strings.Contains(domain, "@") && isASCII(a)
}

func isASCII(a string) bool { return strings.IndexFunc(a, func(r rune) bool { return r > 126 }) < 0 }

// realPlace is a real server with contacts, and how it is asked by its own tools.
type realPlace struct {
	kind       string
	settings   map[string]string
	collection string // the name of the one that is imported
	contacts   int    // that it has
	steps      []contract.WriteBackStep
	// state is everything that the place has, by its own tool: texts by what they are about.
	state func(t *testing.T) map[string]string
	// shown is what of it belongs to a contact of the journal in a step: the value that the
	// step is for, as the journal writes it.
	shown func(t *testing.T, state map[string]string, step int, it contract.WriteBackItem) string
	// remove deletes a contact, and change gives one another address, by the address.
	remove, change func(t *testing.T, address string)
}

// hold imports a collection, verifies it, writes back and undoes: what the place has by its own
// tool is what the journal and the sentences say, and in the end what it was.
func (p realPlace) hold(t *testing.T, api *client.Client) {
	t.Helper()
	ctx := t.Context()
	c, err := api.MakeConnection(ctx, contract.NewConnection{Name: t.Name(), Kind: p.kind, Settings: p.settings})
	if err != nil || !c.Works {
		t.Fatalf("%v: %s", err, c.Says)
	}
	t.Log(c.Says)
	start := time.Now()
	begun, err := api.BeginImport(ctx, c.ID, contract.NewImport{Collection: p.collection})
	if err != nil {
		t.Fatal(err)
	}
	for begun.EndedAt == nil {
		time.Sleep(100 * time.Millisecond)
		if begun, err = api.ImportByID(ctx, begun.ID); err != nil {
			t.Fatal(err)
		}
	}
	if begun.State != "done" || begun.Contacts != int64(p.contacts) {
		t.Fatalf("%s: %d of %d contacts: %s", begun.State, begun.Contacts, p.contacts, begun.Says)
	}
	t.Logf("%d contacts in %.1f s", begun.Contacts, time.Since(start).Seconds())
	run, err := api.StartRun(ctx, begun.ListID, contract.NewRun{ReuseDays: 7})
	if err == nil {
		run, err = api.Wait(ctx, run.ID, func(contract.Run) {})
	}
	if err != nil {
		t.Fatal(err)
	}
	results, err := api.AllResults(ctx, run.ID, nil)
	if err != nil {
		t.Fatal(err)
	}
	gone, moved := results[40].Typed, results[41].Typed
	p.remove(t, gone)
	p.change(t, moved)
	before := p.state(t)

	start = time.Now()
	n := contract.NewWriteBack{WriteBackSpec: contract.WriteBackSpec{Steps: p.steps}}
	d, err := api.DraftWriteBack(ctx, run.ID, n)
	if err != nil {
		t.Fatal(err)
	}
	n.Tag = d.Tag
	b, err := api.BeginWriteBack(ctx, run.ID, n)
	if err != nil {
		t.Fatal(err)
	}
	b = p.ended(t, api, b.ID, "done")
	t.Logf("%s %s (%.1f s)", strings.Join(d.Says, " "), b.Says, time.Since(start).Seconds())
	p.compare(t, api, d, b, gone, moved)

	if _, err := api.UndoWriteBack(ctx, b.ID); err != nil {
		t.Fatal(err)
	}
	b = p.ended(t, api, b.ID, "undone")
	if left := itemsIn(b, -1, "left"); left > 0 {
		t.Errorf("%d changes could not be undone", left)
	}
	if after := p.state(t); !maps.Equal(before, after) {
		t.Errorf("it is not what it was: %s", difference(before, after))
	}
	p.again(t, api, c.ID, gone, moved)
}

// again imports the collection once more: who is gone is not there any more, who has another
// address has it.
func (p realPlace) again(t *testing.T, api *client.Client, connection int64, gone, moved string) {
	t.Helper()
	ctx := t.Context()
	begun, err := api.BeginImport(ctx, connection, contract.NewImport{Collection: p.collection})
	for err == nil && begun.EndedAt == nil {
		time.Sleep(100 * time.Millisecond)
		begun, err = api.ImportByID(ctx, begun.ID)
	}
	if err != nil || begun.State != "done" || begun.Contacts != int64(p.contacts-1) {
		t.Fatalf("%v: %s: %d contacts: %s", err, begun.State, begun.Contacts, begun.Says)
	}
	t.Log(begun.Says)
	run, err := api.StartRun(ctx, begun.ListID, contract.NewRun{Depth: "syntax"})
	if err == nil {
		run, err = api.Wait(ctx, run.ID, func(contract.Run) {})
	}
	if err != nil {
		t.Fatal(err)
	}
	results, err := api.AllResults(ctx, run.ID, nil)
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, r := range results {
		there[r.Typed] = true
	}
	if there[gone] || there[moved] || !there["moved@elsewhere.example"] {
		t.Errorf("%s gone: %v; %s has another address: %v, %v", gone, !there[gone], moved, !there[moved], there["moved@elsewhere.example"])
	}
}

func (p realPlace) ended(t *testing.T, api *client.Client, id int64, state string) contract.WriteBack {
	t.Helper()
	for {
		b, err := api.WriteBack(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if b.EndedAt != nil {
			if b.State != state {
				t.Fatalf("it is %s: %s", b.State, b.Says)
			}
			return b
		}
		time.Sleep(100 * time.Millisecond)
	}
}

func itemsIn(b contract.WriteBack, step int, state string) (n int64) {
	for _, c := range b.Counts {
		if (step < 0 || c.Step == step) && c.State == state {
			n += c.Items
		}
	}
	return n
}

// compare holds the place against the journal and the draft.
func (p realPlace) compare(t *testing.T, api *client.Client, d contract.WriteBackDraft, b contract.WriteBack, gone, moved string) {
	t.Helper()
	now := p.state(t)
	wrong := 0
	for cursor := ""; ; {
		page, err := api.WriteBackItems(t.Context(), b.ID, nil, cursor)
		if err != nil {
			t.Fatal(err)
		}
		for _, it := range page.Items {
			shown, want := p.shown(t, now, it.Step, it), it.Value
			if it.State != "done" {
				want = ""
				if !slices.Contains(it.Addresses, gone) && !slices.Contains(it.Addresses, moved) {
					t.Errorf("%v is %s: %s", it.Addresses, it.State, it.Why)
				}
			}
			if shown != want {
				if wrong++; wrong < 5 {
					t.Errorf("step %d, %s %v: the place shows %q, the journal says %q (%s)", it.Step, it.Key, it.Addresses, shown, it.Value, it.State)
				}
			}
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	for i, s := range d.Steps {
		if made, skipped := itemsIn(b, i, "done"), itemsIn(b, i, "skipped"); made+skipped != s.Contacts || s.Contacts == 0 {
			t.Errorf("step %d: %d made, %d skipped: %s", i, made, skipped, d.Says[i])
		}
	}
	if wrong > 0 {
		t.Errorf("%d items are not as the journal says", wrong)
	}
}

// difference names the first things that differ.
func difference(a, b map[string]string) string {
	var out []string
	for k := range a {
		if a[k] != b[k] {
			out = append(out, fmt.Sprintf("%q was %.300q and is %.300q", k, a[k], b[k]))
		}
	}
	for k := range b {
		if _, ok := a[k]; !ok {
			out = append(out, fmt.Sprintf("%q is new: %.300q", k, b[k]))
		}
	}
	return fmt.Sprintf("%d differ: %s", len(out), strings.Join(out[:min(3, len(out))], "\n"))
}

// TestConnections: every kind of place against its real server.
func TestConnections(t *testing.T) {
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, all := client.New(s.URL, s.Key), everybody(t, i.World)
	for name, start := range map[string]func(*testing.T, []somebody) realPlace{"directory": openLDAP, "address book": radicale, "list manager": mailman, "PostgreSQL": postgreSQL, "MariaDB": mariaDB} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			start(t, all).hold(t, api)
		})
	}
}
