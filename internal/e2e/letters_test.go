package e2e

import (
	"net"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestLetters: a submission server is set up, tried, and refuses; its password is sealed and
// shown to nobody, and nobody but the keeper of the installation sees it at all.
func TestLetters(t *testing.T) {
	t.Parallel()
	i, dsn := testkit.World(t, "fernhollow"), testkit.Database(t)
	const password = "Quince-and-Medlar"
	box, err := i.StartLetterbox("127.0.0.1:0", "127.0.0.1:0", "varnet", password)
	if err != nil {
		t.Fatal(err)
	}
	settings := testkit.Settings(dsn, i)
	s := testkit.Serve(t, settings)
	api, ctx := client.New(s.URL, s.Key), t.Context()
	if _, err := api.TestLetterServer(ctx, "ada.moss@fernhollow.example"); status(err) != 409 || !strings.Contains(err.Error(), "No submission server") {
		t.Errorf("without a server: %v", err)
	}
	host, portText, _ := net.SplitHostPort(box.SMTP)
	port, _ := strconv.Atoi(portText)
	n := contract.NewLetterServer{LetterServer: contract.LetterServer{Host: host, Port: port, Security: "none", Username: "varnet", Sender: "Varnet <varnet@fernhollow.example>", BaseURL: s.URL}}
	try := func(given string) error {
		n.Password = &given
		if _, err := api.SetLetterServer(ctx, n); err != nil {
			return err
		}
		_, err := api.TestLetterServer(ctx, "ada.moss@fernhollow.example")
		return err
	}
	if err := try("something else"); status(err) != 409 || !strings.Contains(err.Error(), "did not take the letter") {
		t.Errorf("a wrong password: %v", err)
	}
	if err := try(password); err != nil {
		t.Fatal(err)
	}
	n.Password, n.Sender = nil, "The library <library@fernhollow.example>" // the password stays
	shown, err := api.SetLetterServer(ctx, n)
	if err != nil || !shown.Password || strings.Contains(shown.Says, password) {
		t.Errorf("%+v, %v", shown, err)
	}
	if _, err := api.TestLetterServer(ctx, "bea.quill@fernhollow.example"); err != nil {
		t.Error(err)
	}
	got := box.Letters("bea.quill@fernhollow.example")
	if len(got) != 1 || got[0].From != "library@fernhollow.example" || !strings.Contains(got[0].Text, "sent to try the settings") || !strings.Contains(got[0].HTML, s.URL) {
		t.Errorf("%+v", got)
	}
	for field, change := range map[string]func(*contract.NewLetterServer){
		"body.security": func(n *contract.NewLetterServer) { n.Host = "smtp.fernhollow.example" },
		"body.sender":   func(n *contract.NewLetterServer) { n.Sender = "nobody" },
	} {
		other := n
		change(&other)
		if _, err := api.SetLetterServer(ctx, other); status(err) != 422 || !strings.Contains(err.Error(), field) {
			t.Errorf("%s: %v", field, err)
		}
	}
	if _, err := api.TestLetterServer(ctx, "ada\r\nBcc: all@fernhollow.example"); status(err) != 422 {
		t.Errorf("a line break in an address: %v", err)
	}
	again := password
	n.Port, n.Password = 1, &again // for another server it is entered again
	if _, err := api.SetLetterServer(ctx, n); err != nil {
		t.Error(err)
	}
	if _, err := api.TestLetterServer(ctx, "ada.moss@fernhollow.example"); status(err) != 409 || !strings.Contains(err.Error(), "refused") {
		t.Errorf("no server at the port: %v", err)
	}
	other, err := testkit.Command(settings, "key", "new", "-workspace", "the neighbours").Output()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := client.New(s.URL, strings.TrimSpace(string(other))).LetterSettings(ctx); status(err) != 403 {
		t.Errorf("another workspace sees them: %v", err)
	}
	if strings.Contains(s.Log(), password) {
		t.Error("the password is in the log")
	}
	n.Port = port
	if _, err := api.SetLetterServer(ctx, n); err != nil {
		t.Error(err)
	}
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("sign in", browser.SignIn(s.URL))
	do("letters", chromedp.Navigate(s.URL+"/setup"), browser.Press("Letters"), browser.Seen(`input[placeholder="the one that is kept"]`), browser.Text("Letters are sent by"))
	do("a test letter", browser.Type(`input[aria-label="Address for a test letter"]`, "cai.fern@fernhollow.example"), browser.Press("Send a test letter"), browser.Text("took a test letter"))
	if got := box.Letters("cai.fern@fernhollow.example"); len(got) != 1 {
		t.Errorf("%d letters came", len(got))
	}
	do("its letterbox", chromedp.Navigate(box.Page), browser.Text("A test letter of Varnet"))
	if err := api.RemoveLetterServer(ctx); err != nil {
		t.Error(err)
	}
	if shown, err := api.LetterSettings(ctx); err != nil || shown.Server != nil {
		t.Errorf("%+v, %v", shown, err)
	}
}
