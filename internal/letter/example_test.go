package letter_test

import (
	"fmt"
	"strings"

	"varnet/internal/letter"
)

// A letter is the same as text and as HTML.
func ExampleLetter_Text() {
	l := letter.Letter{Subject: "Members: verified", Paragraphs: []string{"681 of 1,200 rows will be kept."},
		Link: &letter.Link{Text: "Open the run", URL: "https://varnet.fernhollow.example/runs/7"}, Why: "You get this since you started the run."}
	text, _, _ := strings.Cut(l.Text(), "-- ") // what follows is set off as a signature
	fmt.Println(strings.TrimSpace(text))
	// Output:
	// 681 of 1,200 rows will be kept.
	//
	// Open the run:
	// https://varnet.fernhollow.example/runs/7
}
