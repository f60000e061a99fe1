package e2e

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/core/event"
	"varnet/internal/browser"
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
	brokenIsTold(t, api, platform, c)
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

// brokenIsTold: a platform that refuses the key from now on is told of as an event, once, and
// nothing is imported.
func brokenIsTold(t *testing.T, api *client.Client, platform *shed.Shed, c contract.Connection) {
	t.Helper()
	ctx := t.Context()
	platform.Refuse()
	for range 2 {
		if _, err := api.BeginImport(ctx, c.ID, contract.NewImport{Collection: "Members"}); status(err) != http.StatusConflict || !strings.Contains(err.Error(), "refused the sign-in") {
			t.Errorf("%v", err)
		}
	}
	eventually(t, 10*time.Second, func() (bool, string) {
		events, err := api.Events(ctx, 0, 500)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, e := range events.Items {
			if e.Code == event.ConnectionBroken && e.Thing == fmt.Sprintf("connections/%d", c.ID) {
				n++
			}
		}
		return n == 1, fmt.Sprintf("%d events", n)
	})
	if now, err := api.Connection(ctx, c.ID); err != nil || now.Works {
		t.Errorf("%v: %+v", err, now)
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

// withOAuth is the platform's recipe for those who sign in at its page.
var withOAuth = strings.Replace(shed.Recipe, `{"header": "Shed-Key"}`, `{"oauth": {"authorize": "%[1]s/oauth/authorize", "token": "%[1]s/oauth/token", "scopes": ["contacts"]}}`, 1)

// oauthRecipe is that for a running platform.
func oauthRecipe(s *shed.Shed) string {
	return strings.ReplaceAll(withOAuth, "%[1]s", strings.TrimSuffix(s.URL, "/v1"))
}

// TestConnectionSignIn connects a platform in the console by signing in at its page, imports a
// group and writes it back with what the page says.
func TestConnectionSignIn(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	platform, _ := pottingShed(t, i.World, 60, 0)
	service := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(service.URL, service.Key), t.Context()
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("sign in", browser.SignIn(service.URL))
	do("a kind is chosen", browser.Press("Connections"), browser.Text("There is no connection yet"), browser.Press("New connection"), browser.Press("Contact platform"), browser.Text("Try the recipe"))
	do("a recipe that is wrong", browser.Type(`textarea[aria-label="Recipe"]`, `{"recipe": 1, "nmae": "x"}`), browser.Press("Try it"), browser.Text("there is no such entry"))
	do("it is entered", fill(`textarea[aria-label="Recipe"]`, oauthRecipe(platform)), browser.Type(`input[aria-label="Name"]`, "Potting Shed"), browser.Type(`input[aria-label="Address of the API"]`, platform.URL),
		browser.Type(`input[aria-label="Client ID"]`, shed.Client), browser.Press("Save it, then sign in there"), browser.Text("Nobody has signed in at the platform yet"))
	do("the platform is asked", browser.Press("Sign in there"), browser.Text("The Potting Shed"), browser.Press("Allow"), browser.Text("Signed in at Potting Shed as Fernhollow Seed Library"))
	do("a state is good once", chromedp.Navigate(service.URL+"/connections/signed-in?state=made-up&code=x"), browser.Text("took too long, was used before"))
	do("a group is imported", chromedp.Navigate(service.URL+"/connections/1"), browser.Text("Members"), click("Import it: Members"), browser.Text("60 contacts of “Members” are the list"))
	lists, err := api.Lists(ctx, contract.ListQuery{})
	if err != nil || len(lists.Items) != 1 {
		t.Fatalf("%v: %+v", err, lists)
	}
	run := runOf(t, api, lists.Items[0].ID, contract.NewRun{})
	platform.Expire() // the token is refreshed in the midst
	do("it is written back", chromedp.Navigate(fmt.Sprintf("%s/runs/%d/write-back", service.URL, run.ID)), browser.Text("in the field “mail state”"), browser.Press("Write it back"), browser.Text("changes made"))
	eventually(t, 10*time.Second, func() (bool, string) {
		n := 0
		for _, c := range platform.All() {
			if c.Fields["mail state"] != "" {
				n++
			}
		}
		return n >= 40, fmt.Sprintf("%d contacts got something", n)
	})
	do("and undone", browser.Press("Undo it"), click("Yes, undo it"), browser.Text("undone."))
	for _, c := range platform.All() {
		if c.Fields["mail state"] != "" {
			t.Fatalf("%+v", c)
		}
	}
	signedInStays(t, api, platform)
	platform.Forget()
	do("a sign-in that ended is told", chromedp.Navigate(service.URL+"/connections/1"), browser.Press("Test it"), browser.Text("It does not work."), browser.Text("Sign in there again"))
}

// signedInStays has a connection changed, and its settings tried out, when its token has ended: what it is refreshed to is
// kept, for the platform takes each refresh token once.
func signedInStays(t *testing.T, api *client.Client, platform *shed.Shed) {
	t.Helper()
	c, err := api.Connection(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	for what, ask := range map[string]func() error{
		"changed": func() error {
			_, err := api.ChangeConnection(t.Context(), 1, contract.ConnectionChange{Settings: c.Settings})
			return err
		},
		"tried out": func() error {
			_, err := api.TryConnection(t.Context(), contract.TryConnection{Kind: c.Kind, Settings: c.Settings, ConnectionID: 1})
			return err
		},
	} {
		platform.Expire()
		if err := ask(); err != nil {
			t.Errorf("%s: %v", what, err)
		}
		platform.Expire()
		if c, err := api.TestConnection(t.Context(), 1); err != nil || !c.Works {
			t.Errorf("after it was %s: %v: %s", what, err, c.Says)
		}
	}
}

// fill sets the text of a field as a paste does.
func fill(selector, text string) chromedp.Action {
	return chromedp.Tasks{browser.Seen(selector), chromedp.Evaluate(fmt.Sprintf(`(() => { const field = document.querySelector(%q);
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(field), "value").set.call(field, %q); field.dispatchEvent(new Event("input", {bubbles: true})); })()`, selector, text), nil)}
}

// TestConnectionKilled: a platform with a limit, errors now and then and tokens that end in the
// midst; the service is killed while contacts come and while they are written. Nothing is lost
// or doubled.
func TestConnectionKilled(t *testing.T) {
	t.Parallel()
	const people = 6000
	i := testkit.World(t, "fernhollow")
	platform, _ := pottingShed(t, i.World, people, 10)
	platform.Troubles(func(n int) int {
		return map[int]int{5: http.StatusInternalServerError, 11: -1, 17: http.StatusServiceUnavailable}[n%19]
	})
	service := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(service.URL, service.Key), t.Context()
	c, err := api.MakeConnection(ctx, contract.NewConnection{Name: "Potting Shed", Kind: "platform", Settings: map[string]string{"recipe": strings.ReplaceAll(shed.Recipe, `"500"`, `"200"`), "address": platform.URL, "key": platform.Key}})
	if err != nil {
		t.Fatal(err)
	}
	begun, err := api.BeginImport(ctx, c.ID, contract.NewImport{Collection: "Members"})
	if err != nil {
		t.Fatal(err)
	}
	killed := func(when func() bool) {
		t.Helper()
		eventually(t, 60*time.Second, func() (bool, string) { return when(), "it does not get on" })
		_ = service.Signal(syscall.SIGKILL)
		service.Start(t)
	}
	killed(func() bool {
		now, err := api.ImportByID(ctx, begun.ID)
		return err == nil && now.Contacts > 1000
	})
	l := collected(t, api, begun)
	if l.Rows != people {
		t.Fatalf("%d of %d contacts are in the list", l.Rows, people)
	}
	if n, _ := platform.Requests(); n > 120 {
		t.Errorf("%d requests for %d pages: it began anew", n, people/200)
	}
	run := runOf(t, api, l.ID, contract.NewRun{Depth: "domain"})
	before := platform.All()
	n := contract.NewWriteBack{WriteBackSpec: contract.WriteBackSpec{Steps: []contract.WriteBackStep{{Act: "field", Name: "mail state", Of: "finding"}, {Act: "collection", Name: "Spring", Findings: []string{"undecided", "deliverable"}}}}}
	d, err := api.DraftWriteBack(ctx, run.ID, n)
	if err != nil {
		t.Fatal(err)
	}
	n.Tag = d.Tag
	b, err := api.BeginWriteBack(ctx, run.ID, n)
	if err != nil {
		t.Fatal(err)
	}
	killed(func() bool {
		now, err := api.WriteBack(ctx, b.ID)
		return err == nil && now.CanUndo == false && slices.ContainsFunc(now.Counts, func(c contract.WriteBackItems) bool { return c.State == "done" && c.Items > 500 })
	})
	b = settled(t, api, b.ID, "done")
	written := int64(0)
	for _, c := range platform.All() {
		if c.Fields["mail state"] != "" {
			written++
		}
	}
	if written != d.Steps[0].Contacts || int64(len(platform.Group("Spring"))) != d.Steps[1].Contacts {
		t.Errorf("%d have the field and %d are in the group: %v", written, len(platform.Group("Spring")), d.Says)
	}
	if _, err := api.UndoWriteBack(ctx, b.ID); err != nil {
		t.Fatal(err)
	}
	settled(t, api, b.ID, "undone")
	for n, c := range platform.All() {
		if !maps.Equal(c.Fields, before[n].Fields) {
			t.Fatalf("%+v was %+v", c, before[n])
		}
	}
}

// TestConnectionRoutine: a routine reads a group every night, verifies who is new, brings its
// group up to date and tells who joined and left.
func TestConnectionRoutine(t *testing.T) {
	t.Parallel()
	i, clock := testkit.World(t, "fernhollow"), newCalendar(t)
	platform, group := pottingShed(t, i.World, 120, 0)
	service := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file))
	api, ada, ctx := client.New(service.URL, service.Key), client.New(service.URL, service.SignIn(t)), t.Context()
	box := letterbox(t, i, service)
	if _, err := ada.SetLetterWishes(ctx, contract.LetterWishes{Zone: "Europe/Berlin", DailyHour: 7, Choices: []contract.LetterWish{{Code: event.RoutineDone, Choice: event.AtOnce}, {Code: event.RunFinished, Choice: event.Never}}}); err != nil {
		t.Fatal(err)
	}
	c := connected(t, api, platform)
	r, err := api.MakeRoutine(ctx, contract.NewRoutine{Name: "Newsletter, every night", RoutineSpec: contract.RoutineSpec{Source: "connection", ConnectionID: c.ID, Collection: "group/" + group, Rule: "FREQ=DAILY", Time: "03:00", Zone: "Europe/Berlin",
		Ages: map[string]int{"deliverable": 30, "catch-all": 30, "undeliverable": 90}, Policy: "careful", Then: "connection", Tell: "always",
		ThenSteps: []contract.WriteBackStep{{Act: "field", Name: "mail state", Of: "finding"}, {Act: "collection", Name: "Newsletter, deliverable", Refresh: true, Decisions: []string{"keep"}}}}})
	if err != nil {
		t.Fatal(err)
	}
	if want := "Writes back: the finding in the field “mail state” for everybody and those to keep into “Newsletter, deliverable”."; !slices.Contains(r.Says, want) {
		t.Errorf("%q", r.Says)
	}
	night := func(number int) contract.RoutineTime {
		t.Helper()
		now, err := api.Routine(ctx, r.ID)
		if err != nil {
			t.Fatal(err)
		}
		clock.until(*now.NextAt)
		time := ended(t, api, r.ID, number)
		if time.State != "done" {
			t.Fatalf("%s: %s", time.State, time.Says)
		}
		return time
	}
	first := night(1)
	kept := platform.Group("Newsletter, deliverable")
	if int64(len(kept)) == 0 || int64(len(kept)) > first.Record.Kept || first.Record.Rows != 120 {
		t.Errorf("%d are in the group: %s", len(kept), first.Says)
	}
	platform.Delete(kept[0].ID)
	platform.Change(kept[1].ID, func(c *shed.Contact) { c.Email = "gone@longgone.example" })
	platform.Add(shed.Contact{Name: "Wren Marsham", Email: "wren.marsham@fernhollow.example"}, group)
	second := night(2)
	if second.Record.Gone != 2 || second.Record.Added != 2 || second.Record.Rows != 120 {
		t.Errorf("%+v", second.Record)
	}
	now := map[string]bool{}
	for _, c := range platform.Group("Newsletter, deliverable") {
		now[c.ID] = true
	}
	if now[kept[0].ID] || now[kept[1].ID] || !now[kept[2].ID] {
		t.Errorf("the group was not brought up to date: %s", second.Says)
	}
	if !strings.Contains(second.Says, "2 new and 2 gone") || !strings.Contains(second.Says, "Written back: ") {
		t.Error(second.Says)
	}
	eventually(t, 30*time.Second, func() (bool, string) {
		for _, l := range box.Letters(testkit.Person) {
			if strings.Contains(l.Text, "2 new and 2 gone") {
				return true, ""
			}
		}
		return false, "no letter tells the difference"
	})
}

// TestLink: who has a link gets the kept rows without a key, until it is deleted.
func TestLink(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	service := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(service.URL, service.Key), t.Context()
	_, run := verified(t, api, i.World, 60)
	l, err := api.MakeLink(ctx, run.ID, contract.NewLink{Decision: "keep", Days: 1})
	if err != nil || l.Path == "" {
		t.Fatalf("%v: %+v", err, l)
	}
	fetch := func(url string) (int, string) {
		t.Helper()
		resp, err := http.Get(url)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(body)
	}
	var want bytes.Buffer
	if err := api.ExportFile(ctx, run.ID, contract.ExportChoice{Decision: "keep", Form: "rows", Format: "original"}, &want); err != nil {
		t.Fatal(err)
	}
	if status, got := fetch(api.At(l.Path)); status != http.StatusOK || got != want.String() || got == "" {
		t.Errorf("%d: %d bytes, %d are wanted", status, len(got), want.Len())
	}
	if status, _ := fetch(api.At(l.Path[:len(l.Path)-1] + "x")); status != http.StatusNotFound {
		t.Errorf("a link that is none: %d", status)
	}
	good, err := api.Links(ctx, run.ID)
	if err != nil || len(good.Items) != 1 || good.Items[0].Fetched != 1 || good.Items[0].Path != "" {
		t.Errorf("%v: %+v", err, good.Items)
	}
	if err := api.DeleteLink(ctx, l.ID); err != nil {
		t.Fatal(err)
	}
	if status, _ := fetch(api.At(l.Path)); status != http.StatusNotFound {
		t.Errorf("a link that was deleted: %d", status)
	}
}
