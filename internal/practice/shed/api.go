package shed

import (
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// The bounds of its API.
const (
	mostAPage = 1000
	mostACall = 500
)

func (s *Shed) handler() http.Handler {
	r := chi.NewRouter()
	r.Get("/oauth/authorize", s.authorize)
	r.Post("/oauth/token", s.token)
	r.Route("/v1", func(r chi.Router) {
		r.Use(s.admit)
		r.Get("/account", s.account)
		r.Get("/groups", s.listGroups)
		r.Get("/segments", s.listSegments)
		r.Get("/groups/{id}/contacts", s.contactsOf)
		r.Get("/segments/{id}/contacts", s.contactsOf)
		r.Post("/groups", s.makeGroup)
		r.Delete("/groups/{id}", s.deleteGroup)
		r.Post("/groups/{id}/members", s.changeMembers)
		r.Post("/contacts/read", s.readContacts)
		r.Post("/contacts", s.makeContact)
		r.Delete("/contacts/{id}", s.deleteContact)
		r.Post("/contacts/fields", s.setFields)
		r.Post("/contacts/tags", s.setTags)
		r.Post("/suppressions", s.suppress)
	})
	return r
}

// admit lets those in who are signed in, at the pace that the platform takes.
func (s *Shed) admit(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.requests++
		if s.pace != nil && !s.pace.Allow() {
			s.limited++
			w.Header().Set("Retry-After", "1")
			refuse(w, http.StatusTooManyRequests, "more requests than the limit allows")
			return
		}
		if s.trouble != nil {
			switch status := s.trouble(s.requests); status {
			case 0:
			case -1:
				panic(http.ErrAbortHandler)
			default:
				refuse(w, status, "this went wrong here, and may be tried again")
				return
			}
		}
		if !s.knows(r) {
			refuse(w, http.StatusUnauthorized, "this key or token is not good here")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Shed) knows(r *http.Request) bool {
	if r.Header.Get("Shed-Key") == s.Key {
		return true
	}
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return ok && time.Now().Before(s.tokens[token])
}

func (s *Shed) account(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, map[string]any{"account": "Fernhollow Seed Library", "contacts": len(s.contacts)})
}

func (s *Shed) listGroups(w http.ResponseWriter, _ *http.Request) {
	out := []*Group{}
	for _, id := range s.groupOrder {
		out = append(out, s.groups[id])
	}
	answer(w, http.StatusOK, map[string]any{"groups": out})
}

// segments are contacts with something in common.
var segments = []struct {
	id, name string
	has      func(*Contact) bool
}{
	{"all", "Everybody", func(*Contact) bool { return true }},
	{"fernhollow", "Branch Fernhollow", func(c *Contact) bool { return c.Fields["Branch"] == "Fernhollow" }},
	{"no-name", "Without a name", func(c *Contact) bool { return c.Name == "" }},
}

func (s *Shed) listSegments(w http.ResponseWriter, _ *http.Request) {
	out := []map[string]string{}
	for _, g := range segments {
		out = append(out, map[string]string{"id": g.id, "name": g.name})
	}
	answer(w, http.StatusOK, map[string]any{"segments": out})
}

func (s *Shed) contactsOf(w http.ResponseWriter, r *http.Request) {
	id := chi.URLParam(r, "id")
	var ids []string
	if strings.Contains(r.URL.Path, "/segments/") {
		at := slices.IndexFunc(segments, func(g struct {
			id, name string
			has      func(*Contact) bool
		}) bool {
			return g.id == id
		})
		if at < 0 {
			refuse(w, http.StatusNotFound, "there is no such segment")
			return
		}
		for _, c := range s.order {
			if segments[at].has(s.contacts[c]) {
				ids = append(ids, c)
			}
		}
	} else {
		g := s.groups[id]
		if g == nil {
			refuse(w, http.StatusNotFound, "there is no such group")
			return
		}
		ids = g.ids
	}
	limit, _ := strconv.Atoi(r.URL.Query().Get("limit"))
	limit = min(max(1, limit), mostAPage)
	from := 0
	if after := r.URL.Query().Get("after"); after != "" { // IDs are given in their order
		from, _ = slices.BinarySearch(ids, after+"\x00")
	}
	page := ids[min(from, len(ids)):min(from+limit, len(ids))]
	out := map[string]any{"contacts": s.those(page)}
	if from+limit < len(ids) {
		out["next"] = page[len(page)-1]
	}
	answer(w, http.StatusOK, out)
}

// body reads a call for at most so many contacts.
func body(w http.ResponseWriter, r *http.Request, into any, count func() int) bool {
	d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 8<<20))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		refuse(w, http.StatusBadRequest, err.Error())
		return false
	}
	if count() > mostACall {
		refuse(w, http.StatusUnprocessableEntity, "a call is for at most 500 contacts")
		return false
	}
	return true
}

func (s *Shed) makeGroup(w http.ResponseWriter, r *http.Request) {
	var in struct{ Name string }
	if !body(w, r, &in, func() int { return 1 }) {
		return
	}
	for _, g := range s.groups {
		if g.Name == in.Name {
			refuse(w, http.StatusConflict, "there is a group of this name")
			return
		}
	}
	answer(w, http.StatusCreated, s.newGroup(in.Name))
}

func (s *Shed) deleteGroup(w http.ResponseWriter, r *http.Request) {
	id := chi.URLParam(r, "id")
	if s.groups[id] == nil {
		refuse(w, http.StatusNotFound, "there is no such group")
		return
	}
	delete(s.groups, id)
	s.groupOrder = slices.DeleteFunc(s.groupOrder, func(g string) bool { return g == id })
	w.WriteHeader(http.StatusNoContent)
}

func (s *Shed) makeContact(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Contact Contact
		Groups  []string
	}
	if !body(w, r, &in, func() int { return 1 }) {
		return
	}
	for _, g := range in.Groups {
		if s.groups[g] == nil {
			refuse(w, http.StatusUnprocessableEntity, "there is no such group")
			return
		}
	}
	answer(w, http.StatusCreated, map[string]string{"id": s.add(in.Contact, in.Groups...)})
}

func (s *Shed) deleteContact(w http.ResponseWriter, r *http.Request) {
	s.remove(chi.URLParam(r, "id"))
	w.WriteHeader(http.StatusNoContent)
}

// refused is a contact with which nothing was done.
type refused struct {
	ID  string `json:"id"`
	Why string `json:"why"`
}

// each does something with each contact that is there, and answers with those that are not.
func (s *Shed) each(w http.ResponseWriter, ids []string, do func(*Contact)) {
	none := []refused{}
	for _, id := range ids {
		if c := s.contacts[id]; c != nil {
			do(c)
		} else {
			none = append(none, refused{id, "there is no such contact"})
		}
	}
	answer(w, http.StatusOK, map[string]any{"refused": none})
}

func (s *Shed) changeMembers(w http.ResponseWriter, r *http.Request) {
	var in struct{ Add, Remove []string }
	if !body(w, r, &in, func() int { return len(in.Add) + len(in.Remove) }) {
		return
	}
	g := s.groups[chi.URLParam(r, "id")]
	if g == nil {
		refuse(w, http.StatusNotFound, "there is no such group")
		return
	}
	for _, id := range in.Remove {
		g.remove(id)
	}
	s.each(w, in.Add, func(c *Contact) { g.add(c.ID) })
}

func (s *Shed) readContacts(w http.ResponseWriter, r *http.Request) {
	var in struct{ IDs []string }
	if body(w, r, &in, func() int { return len(in.IDs) }) {
		answer(w, http.StatusOK, map[string]any{"contacts": s.those(in.IDs)})
	}
}

// mostField is how long a field may be.
const mostField = 255

func (s *Shed) setFields(w http.ResponseWriter, r *http.Request) {
	var in struct{ Contacts []Contact }
	if !body(w, r, &in, func() int { return len(in.Contacts) }) {
		return
	}
	none := []refused{}
	for _, of := range in.Contacts {
		c := s.contacts[of.ID]
		if c == nil {
			none = append(none, refused{of.ID, "there is no such contact"})
			continue
		}
		for name, v := range of.Fields {
			switch {
			case len(v) > mostField:
				none = append(none, refused{of.ID, "a field has at most 255 characters"})
			case v == "":
				delete(c.Fields, name)
			default:
				c.Fields[name] = v
			}
		}
		c.ChangedAt = time.Now()
	}
	answer(w, http.StatusOK, map[string]any{"refused": none})
}

func (s *Shed) setTags(w http.ResponseWriter, r *http.Request) {
	var in struct {
		IDs         []string
		Add, Remove string
	}
	if !body(w, r, &in, func() int { return len(in.IDs) }) {
		return
	}
	s.each(w, in.IDs, func(c *Contact) {
		c.Tags = slices.DeleteFunc(c.Tags, func(t string) bool { return t == in.Remove || t == in.Add })
		if in.Add != "" {
			c.Tags = append(c.Tags, in.Add)
		}
	})
}

func (s *Shed) suppress(w http.ResponseWriter, r *http.Request) {
	var in struct{ Add, Remove []string }
	if !body(w, r, &in, func() int { return len(in.Add) + len(in.Remove) }) {
		return
	}
	for _, a := range in.Add {
		s.suppressed[strings.ToLower(a)] = true
	}
	for _, a := range in.Remove {
		delete(s.suppressed, strings.ToLower(a))
	}
	answer(w, http.StatusOK, map[string]any{"suppressed": len(s.suppressed)})
}
