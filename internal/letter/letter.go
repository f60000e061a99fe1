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
	Picture    *Picture // below them; nil for none
	Items      []Item   // of a letter about several things
	Code       string   // shown large, to be typed in; "" for none
	Link       *Link    // what can be done next; nil for nothing
	Why        string   // why one gets it, at the end
	// Unsubscribe is where one says that one wants no such letters (RFC 2369, 3.2); "" for
	// letters that were asked for.
	Unsubscribe string
	// ID is the same for letters that say the same to the same person, so that a repeat is
	// known by it; "" for one of its own.
	ID    string
	Files []File // attached
}

// Picture is a picture in a letter, and what it shows in a sentence.
type Picture struct {
	PNG  []byte
	Says string
}

// Item is one of several things that a letter tells of.
type Item struct {
	Title, Text string
	Link        Link
}

// File is what is attached to a letter.
type File struct {
	Name, Type string
	Content    []byte
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
	if l.Picture != nil {
		paragraph(l.Picture.Says)
	}
	for _, i := range l.Items {
		b.WriteString(wrapped("* "+i.Title) + "\n")
		paragraph(i.Text)
		b.WriteString(wrapped(i.Link.Text+":") + "\n" + i.Link.URL + "\n\n")
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
