package e2e

import (
	"bytes"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/practice/shed"
	"varnet/internal/testkit"
)

// pottingShed starts the practice contact platform with people in a group, some of them awkward,
// and returns the group.
func pottingShed(t *testing.T, w *practice.World, people int, perSecond float64) (s *shed.Shed, group string) {
	t.Helper()
	s, err := shed.Start("127.0.0.1:0", perSecond)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	var list bytes.Buffer
	if err := w.WriteList(&list, people); err != nil {
		t.Fatal(err)
	}
	if group, err = s.Fill("Members", &list); err != nil {
		t.Fatal(err)
	}
	return s, group
}

// connected is a connection to a platform, by its key.
func connected(t *testing.T, api *client.Client, s *shed.Shed) contract.Connection {
	t.Helper()
	c, err := api.MakeConnection(t.Context(), contract.NewConnection{Name: "Potting Shed", Kind: "platform", Settings: map[string]string{"recipe": shed.Recipe, "address": s.URL, "key": s.Key}})
	if err != nil {
		t.Fatal(err)
	}
	if !c.Works || c.Says != "Signed in at Potting Shed as Fernhollow Seed Library." {
		t.Fatalf("%+v", c)
	}
	return c
}

// collected waits for an import to become a list.
func collected(t *testing.T, api *client.Client, i contract.Import) contract.List {
	t.Helper()
	eventually(t, 60*time.Second, func() (bool, string) {
		var err error
		i, err = api.ImportByID(t.Context(), i.ID)
		if err != nil || i.State == "failed" {
			t.Fatalf("%v: %+v", err, i)
		}
		return i.EndedAt != nil, i.Says
	})
	l, err := api.List(t.Context(), i.ListID)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// written drafts a write-back, begins it and waits for its end.
func written(t *testing.T, api *client.Client, run int64, steps ...contract.WriteBackStep) (contract.WriteBackDraft, contract.WriteBack) {
	t.Helper()
	n := contract.NewWriteBack{WriteBackSpec: contract.WriteBackSpec{Steps: steps}}
	d, err := api.DraftWriteBack(t.Context(), run, n)
	if err != nil {
		t.Fatal(err)
	}
	n.Tag = d.Tag
	b, err := api.BeginWriteBack(t.Context(), run, n)
	if err != nil {
		t.Fatal(err)
	}
	return d, settled(t, api, b.ID, "done")
}

// settled waits for a write-back to be in a state, at its end.
func settled(t *testing.T, api *client.Client, id int64, state string) contract.WriteBack {
	t.Helper()
	var b contract.WriteBack
	eventually(t, 90*time.Second, func() (bool, string) {
		var err error
		if b, err = api.WriteBack(t.Context(), id); err != nil {
			t.Fatal(err)
		}
		return b.EndedAt != nil, b.State + ": " + b.Says
	})
	if b.State != state {
		t.Fatalf("it is %s: %s", b.State, b.Says)
	}
	return b
}

// TestConnection imports a group of a contact platform, verifies it and writes back: what the
// platform has then is what the sentences said, and after undoing it is what it was.
func TestConnection(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	platform, _ := pottingShed(t, i.World, 700, 0)
	service := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(service.URL, service.Key), t.Context()

	bad, err := api.MakeConnection(ctx, contract.NewConnection{Name: "Wrong", Kind: "platform", Settings: map[string]string{"recipe": shed.Recipe, "address": platform.URL, "key": "nobody's"}})
	if err != nil || bad.Works || !strings.Contains(bad.Says, "refused the sign-in (401 Unauthorized") {
		t.Errorf("a wrong key: %v, %+v", err, bad)
	}
	c := connected(t, api, platform)
	if c.Settings["key"] != "" || !slices.Equal(c.Secrets, []string{"key"}) {
		t.Errorf("its secrets are shown: %+v", c)
	}
	found, err := api.Collections(ctx, c.ID)
	if err != nil || len(found.Items) != 4 || found.Items[0].Name != "Members" || found.Items[0].Contacts != 700 || found.Items[1].Name != "Everybody" {
		t.Fatalf("%v: %+v", err, found.Items)
	}
	begun, err := api.BeginImport(ctx, c.ID, contract.NewImport{Collection: found.Items[0].ID})
	if err != nil {
		t.Fatal(err)
	}
	l := collected(t, api, begun)
	if l.Rows != 700 || l.Columns[0] != "key" || l.Columns[1] != "e-mail" || !slices.Contains(l.Columns, "Favourite crop") || l.Name != "Members" {
		t.Fatalf("%+v", l)
	}
	run := runOf(t, api, l.ID, contract.NewRun{})
	if run, err = api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	before := platform.All()
	changed, gone := before[10].ID, before[20].ID
	platform.Change(changed, func(c *shed.Contact) { c.Email = "moved@elsewhere.example" })
	platform.Delete(gone)
	kept := fmt.Sprintf("Spring %d, deliverable", 2026)
	draft, b := written(t, api, run.ID,
		contract.WriteBackStep{Act: "field", Name: "mail state", Of: "finding", Values: map[string]string{"undeliverable": "unzustellbar"}},
		contract.WriteBackStep{Act: "suppress", Decisions: []string{"drop"}},
		contract.WriteBackStep{Act: "tag", Name: "ask them", Findings: []string{"undecided"}},
		contract.WriteBackStep{Act: "collection", Name: kept, Decisions: []string{"keep"}})
	holdPlatform(t, api, run.ID, platform, b, draft, changed, gone, kept)

	if _, err := api.UndoWriteBack(ctx, b.ID); err != nil {
		t.Fatal(err)
	}
	undone := settled(t, api, b.ID, "undone")
	if !strings.Contains(undone.Says, "undone") {
		t.Error(undone.Says)
	}
	if platform.Group(kept) != nil {
		t.Error("the group that was made is still there")
	}
	was := map[string]shed.Contact{}
	for _, c := range before {
		was[c.ID] = c
	}
	for _, c := range platform.All() {
		if c.Suppressed || !maps.Equal(c.Fields, was[c.ID].Fields) || len(c.Tags) > 0 {
			t.Fatalf("%+v was %+v", c, was[c.ID])
		}
	}
}

// holdPlatform holds what a platform has against the results of a run and the draft.
func holdPlatform(t *testing.T, api *client.Client, run int64, platform *shed.Shed, b contract.WriteBack, draft contract.WriteBackDraft, changed, gone, group string) {
	t.Helper()
	journal := map[string]map[int]contract.WriteBackItem{}
	for cursor := ""; ; {
		page, err := api.WriteBackItems(t.Context(), b.ID, nil, cursor)
		if err != nil {
			t.Fatal(err)
		}
		for _, it := range page.Items {
			if journal[it.Key] == nil {
				journal[it.Key] = map[int]contract.WriteBackItem{}
			}
			journal[it.Key][it.Step] = it
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	var states, suppressed, tagged int64
	values := map[string]int64{}
	for _, c := range platform.All() {
		if v := c.Fields["mail state"]; v != "" {
			states++
			values[v]++
			if it := journal[c.ID][0]; it.Value != v || it.State != "done" {
				t.Fatalf("%s has %q: %+v", c.ID, v, it)
			}
		}
		if slices.Contains(c.Tags, "ask them") {
			tagged++
		}
		if it := journal[c.ID][1]; c.Suppressed != (it.State == "done") {
			suppressed++ // an address that two contacts have
		}
	}
	if suppressed > 0 {
		t.Errorf("%d contacts are on the suppression list, or not, against the journal", suppressed)
	}
	left := int64(0)
	for _, key := range []string{changed, gone} {
		if it, ok := journal[key][0]; ok {
			left++
			if it.State != "skipped" || it.Why == "" {
				t.Errorf("%s: %+v", key, it)
			}
		}
	}
	if draft.Steps[0].Contacts != states+left || !strings.Contains(draft.Says[0], "in the field “mail state”") || !strings.Contains(draft.Says[0], "“unzustellbar”") || values["unzustellbar"] == 0 || values["undeliverable"] > 0 {
		t.Errorf("%s; %d are set, %d skipped: %v", draft.Says[0], states, left, values)
	}
	if !strings.HasSuffix(draft.Says[3], "will form the new group “"+group+"”.") {
		t.Error(draft.Says[3])
	}
	skipped := int64(0)
	for _, of := range b.Counts {
		if of.Step == 3 && of.State == "skipped" {
			skipped = of.Items
		}
	}
	if n := int64(len(platform.Group(group))); n+skipped != draft.Steps[3].Contacts || n == 0 {
		t.Errorf("%d are in the group, %d skipped: %s", n, skipped, draft.Says[3])
	}
	if tagged == 0 && draft.Steps[2].Contacts > 1 {
		t.Errorf("nobody is tagged: %s", draft.Says[2])
	}
}

// TestWriteBackRefused: what was not seen, or cannot be, is not written.
func TestWriteBackRefused(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	platform, _ := pottingShed(t, i.World, 30, 0)
	service := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(service.URL, service.Key), t.Context()
	_, run := verified(t, api, i.World, 20)
	step := contract.WriteBackStep{Act: "suppress", Decisions: []string{"drop"}}
	if _, err := api.DraftWriteBack(ctx, run.ID, contract.NewWriteBack{WriteBackSpec: contract.WriteBackSpec{Steps: []contract.WriteBackStep{step}}}); status(err) != http.StatusConflict {
		t.Errorf("a list of a file: %v", err)
	}
	c := connected(t, api, platform)
	begun, err := api.BeginImport(ctx, c.ID, contract.NewImport{Collection: "Members"})
	if err != nil {
		t.Fatal(err)
	}
	l := collected(t, api, begun)
	run = runOf(t, api, l.ID, contract.NewRun{Depth: "domain"})
	if run, err = api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	for _, of := range []struct {
		step contract.WriteBackStep
		want int
		says string
	}{
		{contract.WriteBackStep{Act: "disable"}, http.StatusUnprocessableEntity, "does not take"},
		{contract.WriteBackStep{Act: "field", Name: "state"}, http.StatusUnprocessableEntity, "finding, the cause or the decision"},
		{contract.WriteBackStep{Act: "collection", Name: " "}, http.StatusUnprocessableEntity, "a name"},
		{step, http.StatusConflict, "Draft it again"},
	} {
		_, err := api.BeginWriteBack(ctx, run.ID, contract.NewWriteBack{WriteBackSpec: contract.WriteBackSpec{Steps: []contract.WriteBackStep{of.step}}, Tag: "made up"})
		if status(err) != of.want || !strings.Contains(err.Error(), of.says) {
			t.Errorf("%+v: %v", of.step, err)
		}
	}
}
