package e2e

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice/shed"
	"varnet/internal/testkit"
)

// TestWalkContacts goes the way of somebody whose contacts are on a platform (docs/walks): connect
// it, import a group, verify it, write the result back; have a routine do so from then on; mail the
// kept rows, and take in what came back.
func TestWalkContacts(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	platform, _ := pottingShed(t, i.World, 400, 0)
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("connect", browser.SignIn(s.URL), browser.Text("First steps"), browser.Press("connect the place"), browser.Press("New connection"), browser.Press("Contact platform"),
		fill(`textarea[aria-label="Recipe"]`, shed.Recipe), browser.Text("Address of the API"), browser.Type(`input[aria-label="Name"]`, "Potting Shed"), browser.Type(`input[aria-label="Address of the API"]`, platform.URL), browser.Type(`input[aria-label="Key"]`, platform.Key),
		browser.Press("Test it"), browser.Text("Signed in at Potting Shed"), browser.Press("Save the connection"))
	do("import", click("Import it: Members"), browser.Text("400 contacts of “Members” are the list"))
	do("verify", browser.Press("List 1"), browser.Press("Start the run"), browser.Text(": finished"), browser.Text("will be kept"))
	do("write back", browser.Press("Write back"), browser.Text("in the field “mail state”"), browser.Press("Write it back"), browser.Text("changes made"))
	do("the first steps are over", chromedp.Navigate(s.URL+"/lists"), browser.Text("Members"), browser.Gone(".guide"))
	do("every night from now on", chromedp.Navigate(s.URL+"/routines"), browser.Press("Make a routine"), browser.Type(`input[aria-label="Name"]`, "Members, every night"), pick("Source", "a collection of a connection"),
		pick("Connection", "Potting Shed"), pick("Collection", "Members (400)"), pick("Kept rows", "written back to the connection"), browser.Press("Make the routine"), browser.Text("Its times"))
	do("now, for once", browser.Press("Run it now"), browser.Text("done, run by hand"))
	times, err := api.RoutineTimes(ctx, 1, contract.PageQuery{})
	if err != nil || len(times.Items) != 1 || times.Items[0].EndedAt == nil {
		t.Fatalf("%v: %+v", err, times)
	}

	do("the mailing", chromedp.Navigate(s.URL+"/runs/1/export"), browser.Click("details.register summary"), browser.Click("details.register label:nth-child(2) input"), click("Register the mailing"), browser.Text("are still watched"))
	file, messages := cameBack(t, api, i.World)
	do("what came back", browser.Press("Bounces"), browser.Upload("input[type=file]", file), browser.Text(fmt.Sprintf("%d messages read", messages)))
}

// TestWalkAgency goes the way of an agency (docs/walks): whoever looks after the installation says
// what a new team has, three teams sign up, each verifies lists of its own within what it has, one
// needs more, and the book adds up. No team sees another's.
func TestWalkAgency(t *testing.T) {
	t.Parallel()
	p, i := withLetters(t)
	p.signUpMode("open")
	plan, err := p.owner.api().SavePlan(t.Context(), 0, contract.PlanTerms{Name: "Teams", Grant: 150, Keep: 1, MailboxCost: 1})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.owner.api().SetBilling(t.Context(), contract.Billing{Taxes: []contract.TaxRate{}, DefaultPlanID: plan.ID}); err != nil {
		t.Fatal(err)
	}
	var teams []*visitor
	for at, name := range []string{"Bea Quill", "Cai Fern", "Dora Vetch"} {
		v := visit(t, p.Service)
		address := fmt.Sprintf("person%d@fernhollow.example", at)
		var step contract.Step
		v.must("POST", "/sign-up", contract.Newcomer{Name: name, Address: address, Password: "a hedge of damson"}, &step)
		v.must("POST", "/sign-in/code/confirm", contract.TicketAndCode{Ticket: step.Ticket, Code: p.code(address, "signing up")}, nil)
		teams = append(teams, v)
	}
	for at, v := range teams {
		a := held(t, v.api())
		if !a.Kept || a.Available != 150 {
			t.Errorf("team %d begins with %s", at, a.Says)
		}
		l := imported(t, v.api(), i.World, fmt.Sprintf("team-%d.csv", at), 100)
		run := runOf(t, v.api(), l.ID, contract.NewRun{Depth: "mailbox"})
		if cost := conclusive(t, v.api(), run.ID); held(t, v.api()).Available != 150-cost || cost == 0 {
			t.Errorf("team %d was charged otherwise than %d checks: %s", at, cost, held(t, v.api()).Says)
		}
		for other, w := range teams {
			if _, err := w.api().Run(t.Context(), run.ID); other != at && status(err) != http.StatusNotFound {
				t.Errorf("team %d sees a run of team %d: %v", other, at, err)
			}
		}
	}
	large := imported(t, teams[2].api(), i.World, "large.csv", 400)
	if _, err := teams[2].api().StartRun(t.Context(), large.ID, contract.NewRun{Depth: "mailbox"}); status(err) != http.StatusConflict {
		t.Errorf("a run that the team has too few checks for: %v", err)
	}

	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("the accounts", browser.SignIn(p.URL), chromedp.Navigate(p.URL+"/accounts"), browser.Text("Bea Quill"), browser.Text("Cai Fern"), browser.Text("Dora Vetch"))
	accounts, err := p.owner.api().Accounts(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range accounts.Items {
		if a.Workspace == "Dora Vetch" {
			if _, err := p.owner.api().GrantChecks(t.Context(), a.WorkspaceID, contract.NewGrant{Checks: 500, Note: "for the spring list"}); err != nil {
				t.Fatal(err)
			}
		}
	}
	runOf(t, teams[2].api(), large.ID, contract.NewRun{Depth: "mailbox"})
	eventually(t, 20*time.Second, func() (bool, string) {
		u, err := teams[2].api().Usage(t.Context(), "run", "", "")
		return err == nil && len(u.Items) == 2 && u.Sum == u.Items[0].Checks+u.Items[1].Checks, fmt.Sprintf("%v: %+v", err, u)
	})
	right(t, p.owner.api())
}
