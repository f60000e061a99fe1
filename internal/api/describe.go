package api

import (
	"embed"
	"encoding/json"
	"fmt"
	"strings"

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
// for each group.
var groups = readGroups("lists", "runs", "results", "export", "policies", "checks", "catalogues", "outbound", "signing-in", "account", "team",
	"forms", "requests", "installation", "events", "routines", "connections", "mailings", "workshop", "odds", "service", "allowance")

func readGroups(pages ...string) (out []group) {
	for _, page := range pages {
		text, err := operationPages.ReadFile("operations/" + page + ".md")
		if err != nil {
			panic(err) // it is part of the program
		}
		out = append(out, readGroup(string(text)))
	}
	return out
}

// readGroup reads a page: the group's name as its heading with what it is about below, and each
// operation's ID as a heading of the second order, with its text and an example of its body.
func readGroup(page string) group {
	head, parts := cutSections(page, "# ", "\n## ")
	g := group{name: head.title, about: head.text, operations: map[string]description{}}
	for _, p := range parts {
		text, example, _ := strings.Cut(p.text, "```json\n")
		g.operations[p.title] = description{oneLine(text), strings.TrimSuffix(strings.TrimSpace(example), "\n```")}
	}
	g.about = oneLine(g.about)
	return g
}

// section is a heading with the text below it.
type section struct{ title, text string }

// cutSections cuts a page at its headings.
func cutSections(page, first, further string) (head section, parts []section) {
	for i, part := range strings.Split(strings.TrimPrefix(page, first), further) {
		title, text, _ := strings.Cut(part, "\n")
		if i == 0 {
			head = section{title, text}
		} else {
			parts = append(parts, section{title, text})
		}
	}
	return head, parts
}

// oneLine joins the lines of a paragraph.
func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// describe adds the groups, and to each operation its group, description and example.
func describe(doc *huma.OpenAPI) {
	for _, g := range groups {
		doc.Tags = append(doc.Tags, &huma.Tag{Name: g.name, Description: g.about})
	}
	for _, item := range doc.Paths {
		for _, op := range operationsOf(item) {
			for _, g := range groups {
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
