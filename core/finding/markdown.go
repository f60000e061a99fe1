package finding

import (
	"fmt"
	"strings"
)

// Markdown writes the registry as a document for people: docs/causes.md.
func Markdown() string {
	var b strings.Builder
	b.WriteString("# What Varnet finds, and why\n\nThis page is made from the registry in `core/finding`; do not edit it.\n\n## Findings\n\n")
	for _, f := range Findings() {
		fmt.Fprintf(&b, "- `%s`: %s\n", f, f.Meaning())
	}
	b.WriteString("\nA refusal that is about *us* or about the *moment* never makes an address undeliverable.\n\n## Causes\n")
	stage := Stage("")
	for _, i := range registry {
		if i.Stage != stage {
			stage = i.Stage
			fmt.Fprintf(&b, "\n### %s\n\n| cause | finding | what it means | what to do | asking again |\n|---|---|---|---|---|\n", stage)
		}
		again := "brings the same"
		if i.AskAgain {
			again = "may help"
		}
		fmt.Fprintf(&b, "| `%s`<br>%s | %s | %s | %s | %s |\n", i.Code, i.Title, words(i.Findings), i.Meaning, i.Advice, again)
	}
	b.WriteString("\n## Traits\n\n| trait | what it is | left out by the default policy |\n|---|---|---|\n")
	for _, t := range traits {
		left := "no"
		if t.Harmful {
			left = "yes"
		}
		fmt.Fprintf(&b, "| `%s`<br>%s | %s | %s |\n", t.Code, t.Title, t.Meaning, left)
	}
	return b.String()
}

func words(list []Finding) string {
	out := make([]string, len(list))
	for i, f := range list {
		out[i] = string(f)
	}
	return strings.Join(out, ", ")
}
