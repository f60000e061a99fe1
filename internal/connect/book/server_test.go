package book_test

import (
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"testing"

	"varnet/internal/connect"
	"varnet/internal/connect/book"
)

// server is an address book server in memory, as far as connections ask one.
type server struct {
	mu    sync.Mutex
	at    string
	books map[string]string // names by path
	cards map[string]string // by path
	etags map[string]int
	// changes are the paths that were written or deleted, in order; a sync-token is how many there were.
	changes []string
	// noSync: it does not know the report of changes.
	noSync int
	asked  []string
}

const home = "/dav/ada/"

func newServer(t *testing.T) *server {
	t.Helper()
	s := &server{books: map[string]string{}, cards: map[string]string{}, etags: map[string]int{}}
	web := httptest.NewServer(s)
	t.Cleanup(web.Close)
	s.at = web.URL
	return s
}

func (s *server) open(t *testing.T) connect.Taker {
	t.Helper()
	p, err := book.Kind.Open(connect.Env{AllowPrivate: true}, connect.Settings{"address": s.at + "/dav/", "user": "ada", "password": "quince"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.Close() })
	return p.(connect.Taker)
}

// put writes a card, "" deletes it.
func (s *server) put(at, text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.write(at, text)
}

func (s *server) write(at, text string) {
	if text == "" {
		delete(s.cards, at)
	} else {
		s.cards[at] = text
	}
	s.etags[at]++
	s.changes = append(s.changes, at)
}

func (s *server) card(at string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.cards[at]
}

func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked = append(s.asked, r.Method+" "+r.URL.Path)
	if user, pass, _ := r.BasicAuth(); user != "ada" || pass != "quince" {
		http.Error(w, "who are you?", http.StatusUnauthorized)
		return
	}
	at := r.URL.Path
	switch r.Method {
	case "PROPFIND":
		s.find(w, at, string(body))
	case "REPORT":
		s.report(w, at, body)
	case "PUT":
		tag := fmt.Sprintf(`"%d"`, s.etags[at])
		_, there := s.cards[at]
		if want := r.Header.Get("If-Match"); want != "" && (!there || want != tag) || r.Header.Get("If-None-Match") == "*" && there {
			http.Error(w, "it is another", http.StatusPreconditionFailed)
			return
		}
		s.write(at, string(body))
		w.WriteHeader(http.StatusCreated)
	case "DELETE":
		_, isBook := s.books[at]
		if _, isCard := s.cards[at]; !isCard && !isBook {
			http.NotFound(w, r)
			return
		}
		delete(s.books, at)
		s.write(at, "")
		w.WriteHeader(http.StatusNoContent)
	case "MKCOL":
		if _, there := s.books[at]; there {
			http.Error(w, "there is one", http.StatusMethodNotAllowed)
			return
		}
		var m struct {
			Name string `xml:"DAV: set>prop>displayname"`
		}
		_ = xml.Unmarshal(body, &m)
		s.books[at] = m.Name
		w.WriteHeader(http.StatusCreated)
	default:
		http.Error(w, "no", http.StatusMethodNotAllowed)
	}
}

// answer writes a multistatus.
func answer(w http.ResponseWriter, responses ...string) {
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	w.WriteHeader(http.StatusMultiStatus)
	_, _ = io.WriteString(w, `<?xml version="1.0"?><multistatus xmlns="DAV:" xmlns:C="urn:ietf:params:xml:ns:carddav">`+strings.Join(responses, "")+"</multistatus>")
}

func response(at, props string) string {
	return "<response><href>" + escaped((&url.URL{Path: at}).EscapedPath()) + "</href><propstat><prop>" + props + "</prop><status>HTTP/1.1 200 OK</status></propstat></response>"
}

func escaped(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text))
	return b.String()
}

func (s *server) find(w http.ResponseWriter, at, asked string) {
	switch {
	case strings.Contains(asked, "current-user-principal"):
		answer(w, response(at, "<current-user-principal><href>/dav/principals/ada/</href></current-user-principal>"))
	case strings.Contains(asked, "addressbook-home-set"):
		answer(w, response(at, "<C:addressbook-home-set><href>"+home+"</href></C:addressbook-home-set>"))
	case at == home:
		all := []string{response(home, "<resourcetype><collection/></resourcetype>")}
		for b, name := range s.books {
			all = append(all, response(b, "<resourcetype><collection/><C:addressbook/></resourcetype><displayname>"+escaped(name)+"</displayname>"))
		}
		answer(w, all...)
	default: // a book's folder
		all := []string{response(at, "<resourcetype><collection/></resourcetype>")}
		for c := range s.cards {
			if path.Dir(c)+"/" == at {
				all = append(all, response(c, fmt.Sprintf(`<resourcetype/><getcontentlength>%d</getcontentlength><getetag>"%d"</getetag>`, len(s.cards[c]), s.etags[c])))
			}
		}
		answer(w, all...)
	}
}

func (s *server) report(w http.ResponseWriter, at string, body []byte) {
	var r struct {
		XMLName xml.Name
		Token   string   `xml:"DAV: sync-token"`
		Hrefs   []string `xml:"DAV: href"`
	}
	_ = xml.Unmarshal(body, &r)
	if r.XMLName.Local == "sync-collection" {
		s.sync(w, at, r.Token)
		return
	}
	var all []string
	for _, h := range r.Hrefs {
		u, _ := url.Parse(h)
		if text, ok := s.cards[u.Path]; ok {
			all = append(all, response(u.Path, fmt.Sprintf(`<getetag>"%d"</getetag><C:address-data>%s</C:address-data>`, s.etags[u.Path], escaped(text))))
		} else {
			all = append(all, "<response><href>"+escaped(h)+"</href><status>HTTP/1.1 404 Not Found</status></response>")
		}
	}
	answer(w, all...)
}

// sync answers what has changed in a book since a token (RFC 6578, 3.2).
func (s *server) sync(w http.ResponseWriter, at, token string) {
	if s.noSync != 0 {
		http.Error(w, "what report is that?", s.noSync)
		return
	}
	from, n := 0, 0
	if token != "" {
		if c, _ := fmt.Sscanf(token, "urn:changes:%d", &n); c != 1 || n > len(s.changes) {
			http.Error(w, "that token is too old", http.StatusForbidden)
			return
		}
		from = n
	}
	var all []string
	changed := slices.Clone(s.changes[from:])
	slices.Sort(changed)
	for _, c := range slices.Compact(changed) {
		switch _, there := s.cards[c]; {
		case path.Dir(c)+"/" != at:
		case there:
			all = append(all, response(c, fmt.Sprintf(`<getetag>"%d"</getetag>`, s.etags[c])))
		case token != "":
			all = append(all, "<response><href>"+escaped((&url.URL{Path: c}).EscapedPath())+"</href><status>HTTP/1.1 404 Not Found</status></response>")
		}
	}
	answer(w, append(all, fmt.Sprintf("<sync-token>urn:changes:%d</sync-token>", len(s.changes)))...)
}
