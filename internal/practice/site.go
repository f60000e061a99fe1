package practice

import (
	"fmt"
	"html/template"
	"net"
	"net/http"
	"net/url"
	"time"
)

// Site is the website of the seed library in the practice internet: a page with a sign-up form that
// asks Varnet while somebody types.
type Site struct {
	URL   string
	close func() error
}

// StartSite starts the website.
func StartSite(listen string) (*Site, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("practice website: %w", err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", signUp)
	mux.HandleFunc("POST /{$}", signedUp)
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = server.Serve(l) }()
	return &Site{URL: "http://" + l.Addr().String(), close: server.Close}, nil
}

// Page is the address of the page whose form asks a service with a key.
func (s *Site) Page(service, key string) string {
	return s.URL + "/?" + url.Values{"service": {service}, "key": {key}}.Encode()
}

// Close ends the website.
func (s *Site) Close() error { return s.close() }

// signUp shows the form. The page of a real site has the service and the key written in it.
func signUp(w http.ResponseWriter, r *http.Request) {
	at, err := url.Parse(r.FormValue("service"))
	if err != nil || at.Scheme != "http" && at.Scheme != "https" {
		http.Error(w, "service is the address of a Varnet, such as http://localhost:8025", http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = signUpPage.Execute(w, map[string]string{"Service": at.Scheme + "://" + at.Host, "Key": r.FormValue("key")})
}

func signedUp(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = signedUpPage.Execute(w, r.PostFormValue("email"))
}

const siteHead = `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>Fernhollow Seed Library</title>
<style>
body { font: 17px/1.5 Georgia, serif; max-width: 34em; margin: 3em auto; padding: 0 1em; color: #23321f; background: #f6f4ea; }
label { display: block; margin-top: 1em; }
input { font: inherit; width: 100%; box-sizing: border-box; padding: .5em; border: 1px solid #6b7a5e; border-radius: 4px; background: #fff; }
input[data-varnet-doubt] { border-color: #8a4b00; }
button { font: inherit; padding: .4em 1em; border: 1px solid #23321f; border-radius: 4px; background: #fff; color: #23321f; }
.varnet-says { display: block; min-height: 2.4em; padding-top: .3em; color: #7a4200; }
</style>
</head>
`

var signUpPage = template.Must(template.New("sign-up").Parse(siteHead + `<body>
<main>
<h1>The seed letter</h1>
<p>Four times a year: what can be sown, what was harvested, and which seeds are looking for a garden.</p>
<form method="post" action="/">
<label for="name">Your name</label>
<input id="name" name="name" autocomplete="name">
<label for="email">Your e-mail address</label>
<input id="email" name="email" type="email" autocomplete="email" required data-varnet>
<p><button>Send me the seed letter</button></p>
</form>
</main>
<script src="{{.Service}}/forms/varnet-form.js" data-key="{{.Key}}" defer></script>
</body>
</html>
`))

var signedUpPage = template.Must(template.New("signed-up").Parse(siteHead + `<body>
<main>
<h1>Thank you</h1>
<p>The next seed letter goes to <strong>{{.}}</strong>.</p>
</main>
</body>
</html>
`))
