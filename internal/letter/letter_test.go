package letter

import (
	"strings"
	"testing"

	"varnet/core/problem"
	"varnet/internal/store"
)

// TestLetter: both forms hold the same, the text in lines that every reader takes, the page
// with nothing of anybody's in it as markup.
func TestLetter(t *testing.T) {
	l := Letter{Subject: "Your code", Paragraphs: []string{"Somebody, <b>you</b> we hope, wants to sign in to Varnet. " + strings.Repeat("Type the code in. ", 12)}, Code: "402 918",
		Link: &Link{"Open Varnet", "https://varnet.fernhollow.example/sign-in?code=a&b=" + strings.Repeat("x", 90)}, Why: "You get this because you signed in."}
	text := l.Text()
	page, err := l.HTML()
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(text, "\n") {
		if len(line) > columns && !strings.HasPrefix(line, "https://") {
			t.Errorf("a line of %d columns: %q", len(line), line)
		}
	}
	for _, want := range []string{"402 918", "Open Varnet", "You get this because you signed in."} {
		if !strings.Contains(text, want) || !strings.Contains(page, want) {
			t.Errorf("%q is missing in one of the forms", want)
		}
	}
	if !strings.Contains(text, l.Link.URL+"\n") || strings.Contains(page, "<b>you</b>") || !strings.Contains(page, "&lt;b&gt;you") {
		t.Errorf("the link is broken, or text became markup:\n%s\n%s", text, page)
	}
	for _, elsewhere := range []string{"src=", "<script", "url(", "<link"} {
		if strings.Contains(page, elsewhere) {
			t.Errorf("the page loads something: %q", elsewhere)
		}
	}
}

// TestPictureAndItems: what is in a letter beside its paragraphs is in both forms, and in the
// message as parts of its own.
func TestPictureAndItems(t *testing.T) {
	l := Letter{Subject: "2 things happened", Picture: &Picture{PNG: []byte("\x89PNG"), Says: "Of 12 addresses 9 are deliverable."}, ID: "5f0c.3",
		Items: []Item{{"The run of “Members” is finished", "All 12 addresses are concluded.", Link{"See the results", "https://varnet.fernhollow.example/runs/1"}},
			{"“Guests & friends” is imported", "12 rows.", Link{"See the list", "https://varnet.fernhollow.example/lists/2"}}},
		Files: []File{{"report-1.pdf", "application/pdf", []byte("%PDF")}}}
	text := l.Text()
	page, err := l.HTML()
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Of 12 addresses 9 are deliverable.", "The run of “Members” is finished", "See the list", "https://varnet.fernhollow.example/runs/1"} {
		if !strings.Contains(text, want) || !strings.Contains(page, want) {
			t.Errorf("%q is missing in one of the forms", want)
		}
	}
	if !strings.Contains(page, `src="cid:flow"`) || !strings.Contains(page, "Guests &amp; friends") {
		t.Errorf("the page: %s", page)
	}
	m, err := message(store.LetterServer{Sender: "Varnet <varnet@fernhollow.example>"}, "ada.moss@fernhollow.example", l)
	if err != nil {
		t.Fatal(err)
	}
	var written strings.Builder
	if _, err := m.WriteTo(&written); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Message-ID: <5f0c.3@fernhollow.example>", "Content-ID: <flow>", "report-1.pdf", "Auto-Submitted: auto-generated"} {
		if !strings.Contains(strings.ReplaceAll(written.String(), "Content-Id", "Content-ID"), want) {
			t.Errorf("the message lacks %q: %s", want, written.String())
		}
	}
}

// TestCheck: settings that cannot be are named.
func TestCheck(t *testing.T) {
	good := store.LetterServer{Host: "smtp.fernhollow.example", Port: 587, Security: "starttls", Sender: "Varnet <varnet@fernhollow.example>", BaseURL: "https://varnet.fernhollow.example"}
	if err := check(good); err != nil {
		t.Error(err)
	}
	for field, change := range map[string]func(*store.LetterServer){
		"sender":   func(s *store.LetterServer) { s.Sender = "Varnet" },
		"security": func(s *store.LetterServer) { s.Security = "none" },
		"baseUrl":  func(s *store.LetterServer) { s.BaseURL = "http://varnet.fernhollow.example" },
		"host":     func(s *store.LetterServer) { s.Host = "smtp.fernhollow.example\r\nRCPT" },
	} {
		s := good
		change(&s)
		if err, ok := check(s).(*problem.Field); !ok || err.Name != field {
			t.Errorf("%s: %v", field, err)
		}
	}
}
