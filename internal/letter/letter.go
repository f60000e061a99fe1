// Package letter writes e-mail to people (one content, as plain text and as HTML) and gives it
// to the installation's submission server.
package letter

import (
	"bytes"
	_ "embed"
	"html/template"
	"strings"
)

// Letter is what is written to somebody.
type Letter struct {
	Subject    string
	Paragraphs []string
	Code       string // shown large, to be typed in; "" for none
	Link       *Link  // what can be done next; nil for nothing
	Why        string // why one gets it, at the end
	// Unsubscribe is where one says that one wants no such letters (RFC 2369, 3.2); "" for
	// letters that were asked for.
	Unsubscribe string
}

// Link is a place to go to.
type Link struct{ Text, URL string }

// Text returns the letter as plain text, in lines of at most 76 columns (RFC 5322, 2.1.1
// recommends 78) except for links, which stay whole.
func (l Letter) Text() string {
	var b strings.Builder
	paragraph := func(text string) {
		if text != "" {
			b.WriteString(wrapped(text) + "\n\n")
		}
	}
	for _, p := range l.Paragraphs {
		paragraph(p)
	}
	paragraph(l.Code)
	if l.Link != nil {
		b.WriteString(wrapped(l.Link.Text+":") + "\n" + l.Link.URL + "\n\n")
	}
	if l.Why != "" {
		b.WriteString("-- \n")
		paragraph(l.Why)
	}
	return strings.TrimRight(b.String(), "\n") + "\n"
}

const columns = 76

// wrapped breaks a text between words.
func wrapped(text string) string {
	var b strings.Builder
	line := 0
	for _, word := range strings.Fields(text) {
		n := len([]rune(word))
		switch {
		case line == 0:
		case line+1+n > columns:
			b.WriteByte('\n')
			line = 0
		default:
			b.WriteByte(' ')
			line++
		}
		b.WriteString(word)
		line += n
	}
	return b.String()
}

//go:embed letter.html
var page string

var layout = template.Must(template.New("letter").Parse(page))

// HTML returns the letter as a page in the console's look, which loads nothing.
func (l Letter) HTML() (string, error) {
	var b bytes.Buffer
	err := layout.Execute(&b, l)
	return b.String(), err
}
