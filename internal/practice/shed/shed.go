// Package shed is the Potting Shed, the contact platform of the practice internet: groups,
// segments, contacts with fields of their own, tags and a suppression list, behind a JSON API with
// a limit of requests, where one signs in by key or at its page.
package shed

import (
	"crypto/rand"
	_ "embed"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// Recipe is how Varnet speaks with it; the address of its API is another at each start.
//
//go:embed recipe.json
var Recipe string

// Contact is a contact of the platform.
type Contact struct {
	ID         string            `json:"id"`
	Email      string            `json:"email"`
	Others     []string          `json:"otherEmails"`
	Name       string            `json:"name"`
	Fields     map[string]string `json:"fields"`
	Tags       []string          `json:"tags"`
	Suppressed bool              `json:"suppressed"`
	ChangedAt  time.Time         `json:"changedAt"`
}

// Group is a group of contacts, by the order in which they came.
type Group struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Members int    `json:"members"`

	ids  []string
	have map[string]bool
}

func (g *Group) add(id string) {
	if !g.have[id] {
		g.have[id] = true
		g.ids = append(g.ids, id)
	}
	g.Members = len(g.ids)
}

func (g *Group) remove(id string) {
	if g.have[id] {
		delete(g.have, id)
		g.ids = slices.DeleteFunc(g.ids, func(i string) bool { return i == id })
	}
	g.Members = len(g.ids)
}

// Key is what the platform's API takes.
const Key = "shed-practice-key"

// Shed is a running platform.
type Shed struct {
	// URL is where its API is.
	URL string
	// Key is what its API takes.
	Key string
	// TokenLife is for how long a token is good.
	TokenLife time.Duration

	mu         sync.Mutex
	contacts   map[string]*Contact
	order      []string
	groups     map[string]*Group
	groupOrder []string
	suppressed map[string]bool // by address
	next       int
	pace       *rate.Limiter
	trouble    func(n int) int // the status that the nth request is answered with; 0: as it should be
	requests   int
	limited    int
	tokens     map[string]time.Time
	refreshes  map[string]bool
	codes      map[string]code
	server     *http.Server
}

// Start starts a platform. It takes so many requests a second; 0: any number.
func Start(listen string, perSecond float64) (*Shed, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("practice contact platform: %w", err)
	}
	s := &Shed{URL: "http://" + l.Addr().String() + "/v1", Key: Key, TokenLife: time.Hour, contacts: map[string]*Contact{}, groups: map[string]*Group{},
		suppressed: map[string]bool{}, tokens: map[string]time.Time{}, refreshes: map[string]bool{}, codes: map[string]code{}}
	if perSecond > 0 {
		s.pace = rate.NewLimiter(rate.Limit(perSecond), max(1, int(perSecond)))
	}
	s.server = &http.Server{Handler: s.handler(), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.server.Serve(l) }()
	return s, nil
}

// Close ends it.
func (s *Shed) Close() { _ = s.server.Close() }

// Troubles has requests answered by statuses of errors, by their number; 0 is none, -1 breaks the
// connection off.
func (s *Shed) Troubles(by func(n int) int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.trouble = by
}

// Requests returns how many came, and how many of them too soon.
func (s *Shed) Requests() (all, limited int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.requests, s.limited
}

// Fill adds the people of a members' list (CSV with a header) as contacts of a new group, and
// returns its ID.
func (s *Shed) Fill(group string, members io.Reader) (string, error) {
	people, err := People(members)
	if err != nil {
		return "", err
	}
	g := s.NewGroup(group)
	for _, c := range people {
		s.Add(c, g)
	}
	return g, nil
}

// People are those of a list of the practice internet (practice.Header) as contacts.
func People(members io.Reader) (out []Contact, err error) {
	rows, err := csv.NewReader(members).ReadAll()
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	for _, rec := range rows[1:] {
		c := Contact{Name: rec[1], Email: rec[2], Fields: map[string]string{}}
		for i, name := range rows[0] {
			if i != 1 && i != 2 {
				c.Fields[name] = rec[i]
			}
		}
		out = append(out, c)
	}
	return out, nil
}

// NewGroup makes a group.
func (s *Shed) NewGroup(name string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.newGroup(name).ID
}

func (s *Shed) newGroup(name string) *Group {
	s.next++
	g := &Group{ID: strconv.Itoa(s.next), Name: name, have: map[string]bool{}}
	s.groups[g.ID], s.groupOrder = g, append(s.groupOrder, g.ID)
	return g
}

// Add adds a contact to some groups, and returns its ID.
func (s *Shed) Add(c Contact, groups ...string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.add(c, groups...)
}

func (s *Shed) add(c Contact, groups ...string) string {
	s.next++
	c.ID, c.ChangedAt = fmt.Sprintf("c-%06d", s.next), time.Now()
	if c.Fields == nil {
		c.Fields = map[string]string{}
	}
	c.Tags, c.Others = append([]string{}, c.Tags...), append([]string{}, c.Others...)
	s.contacts[c.ID], s.order = &c, append(s.order, c.ID)
	for _, g := range groups {
		s.groups[g].add(c.ID)
	}
	return c.ID
}

// Refuse has it refuse its key from now on.
func (s *Shed) Refuse() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Key = random()
}

// Change changes a contact; Delete deletes one.
func (s *Shed) Change(id string, by func(*Contact)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.contacts[id]; c != nil {
		by(c)
		c.ChangedAt = time.Now()
	}
}

func (s *Shed) Delete(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.remove(id)
}

func (s *Shed) remove(id string) {
	delete(s.contacts, id)
	s.order = slices.DeleteFunc(s.order, func(o string) bool { return o == id })
	for _, g := range s.groups {
		g.remove(id)
	}
}

// Group returns the contacts of the group of a name; nil where there is none.
func (s *Shed) Group(name string) []Contact {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, id := range s.groupOrder {
		if g := s.groups[id]; g.Name == name {
			return s.those(g.ids)
		}
	}
	return nil
}

// All returns all contacts.
func (s *Shed) All() []Contact {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.those(s.order)
}

func (s *Shed) those(ids []string) []Contact {
	out := make([]Contact, 0, len(ids))
	for _, id := range ids {
		if c := s.contacts[id]; c != nil {
			one := *c
			one.Suppressed = s.suppressed[strings.ToLower(c.Email)]
			one.Fields = map[string]string{}
			for k, v := range c.Fields {
				one.Fields[k] = v
			}
			one.Tags = slices.Clone(c.Tags)
			out = append(out, one)
		}
	}
	return out
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func refuse(w http.ResponseWriter, status int, why string) {
	answer(w, status, map[string]string{"error": why})
}

// random is a token or code.
func random() string { return rand.Text() }
