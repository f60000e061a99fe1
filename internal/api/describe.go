package api

import (
	"embed"
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
)

// group is a part of the contract: the operations about one thing.
type group struct {
	name, about string
	operations  map[string]description
}

// description is what the contract says of an operation beyond its summary.
type description struct {
	text    string
	example string // of the body, as JSON; "" where there is none, or a file
}

//go:embed operations/*.md
var operationPages embed.FS

// groups are all operations, in the order of the documentation: a page of the folder operations
// for each group. They are read when a contract is made: commands do without.
var groups = sync.OnceValue(func() (out []group) {
	for _, page := range []string{
		"lists", "runs", "results", "export", "policies", "checks", "catalogues", "outbound", "signing-in", "account", "team", "forms", "requests",
		"installation", "events", "routines", "connections", "mailings", "workshop", "odds", "service", "allowance",
	} {
		text, err := operationPages.ReadFile("operations/" + page + ".md")
		if err != nil {
			panic(err) // it is part of the program
		}
		out = append(out, readGroup(string(text)))
	}
	return out
})

// readGroup reads a page: the group's name as its heading with what it is about below, and each
// operation's ID as a heading of the second order, with its text and an example of its body.
func readGroup(page string) group {
	head, operations, _ := strings.Cut(page, "\n## ")
	name, about, _ := strings.Cut(strings.TrimPrefix(head, "# "), "\n")
	g := group{name, oneLine(about), map[string]description{}}
	for _, operation := range strings.Split(operations, "\n## ") {
		id, body, _ := strings.Cut(operation, "\n")
		text, example, _ := strings.Cut(body, "```json\n")
		g.operations[id] = description{oneLine(text), strings.TrimSuffix(strings.TrimSpace(example), "\n```")}
	}
	return g
}

// oneLine joins the lines of a paragraph.
func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// describe adds the groups, and to each operation its group, description and example.
func describe(doc *huma.OpenAPI) {
	for _, g := range groups() {
		doc.Tags = append(doc.Tags, &huma.Tag{Name: g.name, Description: g.about})
	}
	for _, item := range doc.Paths {
		for _, op := range operationsOf(item) {
			for _, g := range groups() {
				if d, ok := g.operations[op.OperationID]; ok {
					op.Tags = []string{g.name}
					d.add(op)
				}
			}
		}
	}
}

func (d description) add(op *huma.Operation) {
	op.Description = d.text
	if d.example == "" {
		return
	}
	var example any
	if err := json.Unmarshal([]byte(d.example), &example); err != nil {
		panic(fmt.Sprintf("the example of %s: %v", op.OperationID, err))
	}
	op.RequestBody.Content["application/json"].Example = example
}
