package client_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"varnet/core/policy"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// server and key are those of a service on a practice internet, which the examples call.
var server, key string

func TestMain(m *testing.M) {
	os.Exit(testkit.Main(m, func(t testing.TB) {
		s := testkit.Serve(t, testkit.Settings(testkit.Database(t), testkit.World(t, "fernhollow")))
		server, key = s.URL, s.Key
	}))
}

// seedlings is a list in which one address is at a host that accepts whatever it is asked.
const seedlings = "name,e-mail\nAda,anybody@sundial-nursery.example\nBea,nobody.atall@fernhollow.example\nCai,cai@@fernhollow.example\n"

// imported imports seedlings and runs the list.
func imported(ctx context.Context, c *client.Client) (contract.List, contract.Run) {
	l, err := c.Import(ctx, client.File{Name: "seedlings.csv", Body: strings.NewReader(seedlings)})
	if err != nil {
		panic(err)
	}
	r, err := c.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "reach-further"})
	if err == nil {
		r, err = c.Wait(ctx, r.ID, func(contract.Run) {})
	}
	if err != nil {
		panic(err)
	}
	return l, r
}

// A file goes in, its addresses are verified, and the rows to keep come out.
func Example() {
	ctx, c := context.Background(), client.New(server, key)
	l, err := c.Import(ctx, client.File{Name: "seedlings.csv", Body: strings.NewReader(seedlings)})
	if err != nil {
		fmt.Println(err)
		return
	}
	r, err := c.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "reach-further"})
	if err != nil {
		fmt.Println(err)
		return
	}
	// Wait outlasts restarts of the service; seen is called with each news of the run.
	if r, err = c.Wait(ctx, r.ID, func(contract.Run) {}); err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(r.ExportSentence)
	var kept bytes.Buffer
	if err := c.ExportFile(ctx, r.ID, contract.ExportChoice{}, &kept); err != nil {
		fmt.Println(err)
		return
	}
	fmt.Print(kept.String())
	// Output:
	// 1 of 3 rows will be kept. Left out: 2 undeliverable.
	// name,e-mail
	// Ada,anybody@sundial-nursery.example
}

func ExampleClient_Check() {
	found, err := client.New(server, key).Check(context.Background(), []string{"nobody.atall@fernhollow.example", "x@nomail.example"})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, e := range found {
		fmt.Printf("%s: %s, because of %s\n", e.Typed, e.Finding, e.Cause)
	}
	// Output:
	// nobody.atall@fernhollow.example: undeliverable, because of mailbox.absent
	// x@nomail.example: undeliverable, because of domain.no-mail
}

func ExampleClient_Lists() {
	ctx, c := context.Background(), client.New(server, key)
	for _, name := range []string{"Orchard A", "Orchard B", "Orchard C"} {
		if _, err := c.Import(ctx, client.File{Name: "orchard.csv", List: name, Body: strings.NewReader(seedlings)}); err != nil {
			fmt.Println(err)
			return
		}
	}
	// Next of a page is the cursor of the page after it.
	q := contract.ListQuery{Search: "orchard", Order: "name", PageQuery: contract.PageQuery{Limit: 2}}
	for {
		page, err := c.Lists(ctx, q)
		if err != nil {
			fmt.Println(err)
			return
		}
		for _, l := range page.Items {
			fmt.Println(l.Name)
		}
		if q.Cursor = page.Next; q.Cursor == "" {
			break
		}
		fmt.Println("and on the next page")
	}
	// Output:
	// Orchard A
	// Orchard B
	// and on the next page
	// Orchard C
}

func ExampleClient_AllResults() {
	ctx, c := context.Background(), client.New(server, key)
	_, r := imported(ctx, c)
	gone, err := c.AllResults(ctx, r.ID, contract.Query(contract.Filter{Finding: "undeliverable"}))
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, g := range gone {
		fmt.Println(g.Typed, g.Title)
	}
	// Output:
	// nobody.atall@fernhollow.example Mailbox does not exist
	// cai@@fernhollow.example Not an address
}

func ExampleClient_Override() {
	ctx, c := context.Background(), client.New(server, key)
	l, r := imported(ctx, c)
	// What a person decided goes before the policy, in all runs of the list.
	if _, err := c.Override(ctx, l.ID, contract.Override{Mailboxes: []string{"anybody@sundial-nursery.example"}, Decision: policy.Drop}); err != nil {
		fmt.Println(err)
		return
	}
	said, err := c.ExportPreview(ctx, r.ID, contract.ExportChoice{})
	fmt.Println(said.Sentence, err)
	// Output: 0 of 3 rows will be kept. Left out: 2 undeliverable, 1 overridden by a person. <nil>
}

// What the service refuses is a Problem: a status, a sentence for people, and the places.
func ExampleProblem() {
	_, err := client.New(server, key).StartRun(context.Background(), 1_000_000, contract.NewRun{})
	var told *client.Problem
	fmt.Println(errors.As(err, &told), told.Status)
	_, err = client.New(server, key).Lists(context.Background(), contract.ListQuery{Order: "colour"})
	fmt.Println(errors.As(err, &told), told.Status, told.Errors[0].Location)
	// Output:
	// true 404
	// true 422 query.order
}

func ExampleClient_Watch() {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	c := client.New(server, key)
	imports := func() { _, _ = c.Import(ctx, client.File{Name: "watched.csv", Body: strings.NewReader(seedlings)}) }
	_ = c.Watch(ctx, func() { go imports() }, func(change contract.WorkspaceChange) {
		if change.Kind == "list" { // others may work in the same workspace
			fmt.Println("read again what you show of the list")
			stop()
		}
	})
	// Output: read again what you show of the list
}
