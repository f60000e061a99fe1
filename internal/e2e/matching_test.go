package e2e

import (
	"bytes"
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"varnet/core/policy"
	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestMatching does with all results that fit a filter, shown or not, what can be
// done with results that are chosen one by one.
func TestMatching(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	settings := testkit.Settings(testkit.Database(t), i)
	s := testkit.Serve(t, settings)
	api := client.New(s.URL, s.Key)
	_, run := verified(t, api, i.World, 600)
	all := allResults(t, api, run.ID)
	counted(t, api, run, all)
	decided(t, api, run, all)
	tooMany(t, api)
	askedAgain(t, api, run, all)
	operators(t, api, run, all)
	key, err := testkit.Command(settings, "key", "new", "-workspace", "the neighbours").Output()
	if err != nil {
		t.Fatal(err)
	}
	theirs := client.New(s.URL, strings.TrimSpace(string(key)))
	for what, err := range map[string]error{
		"counts":    second(theirs.Matching(t.Context(), run.ID, nil)),
		"decides":   second(theirs.OverrideMatching(t.Context(), run.ID, nil, policy.Drop)),
		"asks":      second(theirs.AskMatching(t.Context(), run.ID, url.Values{"finding": {"undecided"}})),
		"sees whom": second(theirs.RunOperators(t.Context(), run.ID, nil)),
	} {
		if status(err) != http.StatusNotFound {
			t.Errorf("another workspace %s: %v", what, err)
		}
	}

	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("sign in", browser.SignIn(s.URL))
	deliverable := len(where(all, func(r contract.Result) bool { return r.Finding == "deliverable" }))
	do("all that fit", chromedp.Navigate(s.URL+fmt.Sprintf("/runs/%d/results?finding=deliverable", run.ID)), browser.Text(fmt.Sprintf("The first 100 of %d that match.", deliverable)), browser.Click(`input[aria-label="Choose all that are shown"]`), browser.Text("100 addresses chosen."), browser.Press("Choose all that match"), browser.Text(fmt.Sprintf("All %d addresses that match are chosen.", deliverable)))
	do("are held", browser.Press("◐ Hold"), browser.Text("overridden"))
	if f, err := api.Matching(t.Context(), run.ID, url.Values{"decision": {"keep"}}); err != nil || f.Addresses != 0 {
		t.Errorf("%v: all deliverable ones are held, and %d are kept", err, f.Addresses)
	}
	if f, err := api.Matching(t.Context(), run.ID, url.Values{"overridden": {"true"}, "decision": {"hold"}}); err != nil || f.Addresses != int64(deliverable) {
		t.Errorf("%v: %d are held by an override; want %d", err, f.Addresses, deliverable)
	}
	do("and taken out", browser.Click(`input[aria-label="Choose all that are shown"]`), browser.Press("Choose all that match"), browser.Press("Export"), browser.Text("Of the rows with the finding deliverable: All "))
	do("operators", chromedp.Navigate(s.URL+fmt.Sprintf("/runs/%d/domains", run.ID)), browser.Click(".ant-segmented-item:nth-child(2)"), browser.Text("domains of the list"), browser.Press("sundial.example"), browser.Text("run by sundial.example"))
}

func second[T any](_ T, err error) error { return err }

func where(all []contract.Result, fits func(contract.Result) bool) (out []contract.Result) {
	for _, r := range all {
		if fits(r) {
			out = append(out, r)
		}
	}
	return out
}

// parts are the parts of filters that are counted, and what a result has there.
var parts = map[string]func(contract.Result) []string{
	"finding":  func(r contract.Result) []string { return []string{string(r.Finding)} },
	"cause":    func(r contract.Result) []string { return []string{string(r.Cause)} },
	"decision": func(r contract.Result) []string { return []string{string(r.Decision)} },
	"trait": func(r contract.Result) (out []string) {
		for _, t := range r.Traits {
			out = append(out, string(t))
		}
		return out
	},
}

// counted holds the counts of filters against the results themselves, and so
// those of each other value that a part of the filter could have.
func counted(t *testing.T, api *client.Client, run contract.Run, all []contract.Result) {
	t.Helper()
	for query, fits := range map[string]func(contract.Result) bool{
		"":                        func(contract.Result) bool { return true },
		"domain=POSTBARN.example": func(r contract.Result) bool { return r.Domain == "postbarn.example" },
		"search=moss&oddsFrom=0.5": func(r contract.Result) bool {
			return strings.Contains(strings.ToLower(r.Typed), "moss") && r.Odds >= 0.5
		},
		"operator=sundial.example": func(r contract.Result) bool {
			return strings.Contains("aldermill.example greenhouse-guild.example sundial-nursery.example", cmp.Or(r.Domain, "none"))
		},
		"search=role-that-is-nobody": func(contract.Result) bool { return false },
	} {
		for part, value := range map[string]string{"": "", "finding": "undeliverable", "decision": "hold", "trait": "role", "cause": "mailbox.absent"} {
			filter, err := url.ParseQuery(query)
			if err != nil {
				t.Fatal(err)
			}
			among := where(all, fits)
			if part != "" {
				filter.Set(part, value)
				among = where(among, func(r contract.Result) bool { return slices.Contains(parts[part](r), value) })
			}
			got, err := api.Matching(t.Context(), run.ID, filter)
			if err != nil || got.Addresses != int64(len(among)) || got.More {
				t.Errorf("%v: %v: %d fit, more: %v; want %d", filter, err, got.Addresses, got.More, len(among))
			}
			facets(t, filter, got.Facets, where(all, fits), part, value)
		}
	}
}

// facets holds what is told of other values of a filter's parts against the
// results; all of these fit the rest of the filter but for one part.
func facets(t *testing.T, filter url.Values, told []contract.Facet, all []contract.Result, part, value string) {
	t.Helper()
	want := map[contract.Facet]bool{}
	for other, of := range parts {
		counts := map[string]int64{}
		for _, r := range all {
			if part != "" && part != other && !slices.Contains(parts[part](r), value) {
				continue
			}
			for _, v := range of(r) {
				counts[v]++
			}
		}
		for v, n := range counts {
			want[contract.Facet{Part: other, Value: v, Addresses: n}] = true
		}
	}
	for _, f := range told {
		if !want[f] {
			t.Errorf("%v: %d are told with the %s %s, which is not so", filter, f.Addresses, f.Part, f.Value)
		}
		delete(want, f)
	}
	for f := range want {
		t.Errorf("%v: nothing is told of the %d with the %s %s", filter, f.Addresses, f.Part, f.Value)
	}
}

// decided strikes all of a kind, and leaves them to the policy again.
func decided(t *testing.T, api *client.Client, run contract.Run, all []contract.Result) {
	t.Helper()
	catchAll := where(all, func(r contract.Result) bool { return r.Finding == "catch-all" })
	filter := url.Values{"finding": {"catch-all"}}
	for _, d := range []policy.Decision{policy.Drop, "policy"} {
		done, err := api.OverrideMatching(t.Context(), run.ID, filter, d)
		if err != nil || done.Addresses != int64(len(catchAll)) {
			t.Fatalf("%s: %v: decided about %d; want %d", d, err, done.Addresses, len(catchAll))
		}
		for _, r := range allResults(t, api, run.ID) {
			before := all[slices.IndexFunc(all, func(o contract.Result) bool { return o.Ordinal == r.Ordinal })]
			want, overridden := before.Decision, false
			if d == policy.Drop && r.Finding == "catch-all" {
				want, overridden = policy.Drop, true
			}
			if r.Decision != want || r.Overridden != overridden {
				t.Errorf("%s: %s is %s, by an override: %v; want %s, %v", d, r.Typed, r.Decision, r.Overridden, want, overridden)
			}
		}
	}
	if done, err := api.OverrideMatching(t.Context(), run.ID, url.Values{"search": {"no such text"}}, policy.Keep); err != nil || done.Addresses != 0 {
		t.Errorf("none fits: %v: decided about %d", err, done.Addresses)
	}
}

// tooMany holds that a policy decides about many, and nothing is decided in part.
func tooMany(t *testing.T, api *client.Client) {
	t.Helper()
	var b bytes.Buffer
	b.WriteString("E-mail\n")
	for n := range 10_050 {
		fmt.Fprintf(&b, "member%d@postbarn.example\n", n)
	}
	_, run := startNamed(t, api, "many.csv", b.Bytes(), "syntax")
	run, err := api.Wait(t.Context(), run.ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}
	if f, err := api.Matching(t.Context(), run.ID, nil); err != nil || f.Addresses != 10_050 || f.More {
		t.Errorf("of 10,050: %v: %+v", err, f)
	}
	if f, err := api.Matching(t.Context(), run.ID, url.Values{"search": {"MEMBER"}}); err != nil || f.Addresses != 10_050 || f.More {
		t.Errorf("of 10,050 with a text that is in all: %v: %+v", err, f)
	}
	_, err = api.OverrideMatching(t.Context(), run.ID, nil, policy.Drop)
	if status(err) != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), "all=true") {
		t.Errorf("about all, without saying so: %v", err)
	}
	_, err = api.OverrideMatching(t.Context(), run.ID, url.Values{"all": {"true"}}, policy.Drop)
	if status(err) != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), "Nothing was decided") {
		t.Errorf("about 10,050 at once: %v", err)
	}
	if f, err := api.Matching(t.Context(), run.ID, url.Values{"overridden": {"true"}}); err != nil || f.Addresses != 0 {
		t.Errorf("%v: decided in part: %+v", err, f)
	}
}

// askedAgain asks again about all that fit, and about no other.
func askedAgain(t *testing.T, api *client.Client, run contract.Run, all []contract.Result) {
	t.Helper()
	if _, err := api.AskMatching(t.Context(), run.ID, url.Values{"search": {"no such text"}}); status(err) != http.StatusUnprocessableEntity {
		t.Errorf("asked again about none: %v", err)
	}
	filter := url.Values{"operator": {"sundial.example"}}
	r, err := api.AskMatching(t.Context(), run.ID, filter)
	if err == nil {
		_, err = api.Wait(t.Context(), run.ID, func(contract.Run) {})
	}
	if err != nil {
		t.Fatal(err)
	}
	there := pageOf(t, api, run.ID, filter)
	if r.Again != int64(len(there)) || len(there) == 0 {
		t.Errorf("%d are asked again about; want %d", r.Again, len(there))
	}
	if after := allResults(t, api, run.ID); len(after) != len(all) {
		t.Errorf("%d results after, %d before", len(after), len(all))
	}
}

// operators holds what is told of operators against the results there.
func operators(t *testing.T, api *client.Client, run contract.Run, all []contract.Result) {
	t.Helper()
	var listed []contract.OperatorCount
	for page := (url.Values{"limit": {"4"}}); ; {
		some, err := api.RunOperators(t.Context(), run.ID, page)
		if err != nil {
			t.Fatal(err)
		}
		listed = append(listed, some.Items...)
		if some.Next == "" {
			break
		}
		page.Set("cursor", some.Next)
	}
	sum := 0
	for i, o := range listed {
		if i > 0 && o.Addresses > listed[i-1].Addresses {
			t.Errorf("%s with %d comes after %d", o.Operator, o.Addresses, listed[i-1].Addresses)
		}
		there := pageOf(t, api, run.ID, url.Values{"operator": {o.Operator}})
		found := map[string]int64{}
		for _, r := range there {
			found[string(r.Finding)]++
		}
		for _, f := range o.Findings {
			if found[string(f.Finding)] != f.Addresses {
				t.Errorf("%s: %d %s told, %d results", o.Operator, f.Addresses, f.Finding, found[string(f.Finding)])
			}
		}
		if int64(len(there)) != o.Addresses || o.Domains < 1 {
			t.Errorf("%s: %d addresses at %d domains told, %d results", o.Operator, o.Addresses, o.Domains, len(there))
		}
		sum += len(there)
	}
	if sum == 0 || sum >= len(all) {
		t.Errorf("%d of %d addresses are at operators; those at domains that take no mail are not", sum, len(all))
	}
	if some, err := api.RunOperators(t.Context(), run.ID, url.Values{"search": {"SUNDIAL"}}); err != nil || len(some.Items) != 1 || some.Items[0].Operator != "sundial.example" {
		t.Errorf("%v: %+v", err, some)
	}
}
