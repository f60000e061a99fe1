// Package recipe connects contact platforms with a JSON API, each described by a recipe: a JSON
// file that says how to sign in, page through contacts and write back. docs/connections.md explains
// one line by line.
package recipe

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"varnet/internal/connect"
)

// Recipe is how a contact platform is spoken with. Paths into answers are names with dots between
// them, such as paging.next.
type Recipe struct {
	Recipe      int           `json:"recipe" doc:"The version of the form: 1." want:"yes"`
	Name        string        `json:"name" doc:"The name of the platform." want:"yes"`
	Base        string        `json:"base" doc:"The address of its API, which all paths of calls are put behind. A connection may have another." want:"yes"`
	SignIn      SignIn        `json:"signIn" doc:"How to sign in: by a key in a header, or by OAuth 2.0." want:"yes"`
	PerSecond   float64       `json:"perSecond" doc:"How many calls a second it takes at most; 0: 5."`
	Test        Test          `json:"test" doc:"A call that shows that the sign-in is right." want:"yes"`
	Collections []Collections `json:"collections" doc:"How to list what can be imported; one entry for each kind, such as groups and segments." want:"yes"`
	Contact     Contact       `json:"contact" doc:"Where in a contact its key, addresses and fields stand." want:"yes"`
	Read        *Read         `json:"read" doc:"How to read some contacts as they are now. Without it nothing is written back."`
	Write       Write         `json:"write" doc:"What it takes back."`
}

// SignIn is how to sign in: by a header, or by OAuth.
type SignIn struct {
	Header string `json:"header" doc:"The header that the key goes into, such as X-Key or Authorization."`
	Prefix string `json:"prefix" doc:"What comes before the key in it, such as Bearer and a space."`
	OAuth  *OAuth `json:"oauth" doc:"OAuth 2.0 with an authorization code and PKCE (RFC 6749, RFC 7636), in the place of a key."`
}

// OAuth is where to sign in by OAuth 2.0.
type OAuth struct {
	Authorize string   `json:"authorize" doc:"The address of its sign-in page; a path is put behind the base." want:"yes"`
	Token     string   `json:"token" doc:"The address that gives and refreshes tokens; a path is put behind the base." want:"yes"`
	Scopes    []string `json:"scopes" doc:"What is asked for."`
}

// Call is a request. In path, query and body {collection}, {name} and {target} stand for those of
// an order, {key}, {address} and {value} for those of a contact, and "{keys}" for all keys.
type Call struct {
	Method string            `json:"method" doc:"The method; GET unless given."`
	Path   string            `json:"path" doc:"The path behind the base." want:"yes"`
	Query  map[string]string `json:"query" doc:"The parameters of the query."`
	Body   any               `json:"body" doc:"The JSON that is sent. An array whose only element has {key} or {address} in it is repeated for each contact."`
}

// Test is a call that shows that the sign-in is right.
type Test struct {
	Call
	Account string `json:"account" doc:"Where in the answer the name of the account stands."`
}

// Collections lists the collections of a kind.
type Collections struct {
	Kind     string   `json:"kind" doc:"What the platform calls them, such as group." want:"yes"`
	List     Call     `json:"list" doc:"The call that lists them." want:"yes"`
	Items    string   `json:"items" doc:"Where in the answer they are; left out where the answer is the list."`
	ID       string   `json:"id" doc:"Where in each its ID is." want:"yes"`
	Name     string   `json:"name" doc:"Where in each its name is." want:"yes"`
	Size     string   `json:"size" doc:"Where in each the number of its contacts is."`
	Paging   *Paging  `json:"paging" doc:"How the list goes on."`
	Contacts Contacts `json:"contacts" doc:"How to page through the contacts of one." want:"yes"`
}

// Contacts pages through contacts.
type Contacts struct {
	Call
	Items  string  `json:"items" doc:"Where in the answer the contacts are; left out where the answer is the list."`
	Paging *Paging `json:"paging" doc:"How it goes on; left out where one answer has all."`
}

// Paging is how a list goes on after an answer. One of the ways is given.
type Paging struct {
	Next   string `json:"next" doc:"Where in the answer the next page is: its address or, with parameter, what that is set to."`
	Param  string `json:"parameter" doc:"The parameter of the query that names the next page."`
	Page   string `json:"page" doc:"The parameter that counts the pages from 1; an empty page is the last."`
	Offset string `json:"offset" doc:"The parameter that counts the items before the page; an empty page is the last."`
	Link   bool   `json:"link" doc:"The next page is in the header Link (RFC 8288)."`
}

// Contact is where things of a contact stand.
type Contact struct {
	Key       string            `json:"key" doc:"Its key." want:"yes"`
	Addresses []string          `json:"addresses" doc:"Its addresses, each a text or a list of them." want:"yes"`
	Fields    map[string]string `json:"fields" doc:"Its fields, by the name of the column."`
	More      string            `json:"more" doc:"An object of which each entry is a field."`
}

// Read reads some contacts as they are now.
type Read struct {
	Call
	Items string `json:"items" doc:"Where in the answer the contacts are; left out where the answer is one contact, or the list."`
	Most  int    `json:"most" doc:"How many it is asked for at most; 1 unless given."`
}

// Write is what a platform takes back.
type Write struct {
	Field      *Change  `json:"field" doc:"Set a field."`
	Tag        *Change  `json:"tag" doc:"Put a tag on contacts."`
	Suppress   *Change  `json:"suppress" doc:"Put addresses on the suppression list."`
	Disable    *Change  `json:"disable" doc:"Stop delivery to contacts."`
	Remove     *Change  `json:"remove" doc:"Take contacts out of their collection."`
	Collection *NewColl `json:"collection" doc:"Make a new collection."`
}

// Change changes something of contacts.
type Change struct {
	Set    Call    `json:"set" doc:"The call that does it." want:"yes"`
	Unset  *Call   `json:"unset" doc:"The call that takes it back; without it there is no undoing. A field is set to what it was."`
	At     string  `json:"at" doc:"Where in a contact it stands: a list that has the tag, or something true. A field is where the contact's fields are."`
	Most   int     `json:"most" doc:"How many contacts a call is for at most; 1 unless given."`
	Failed *Failed `json:"failed" doc:"Where in the answer those are that were refused."`
}

// Failed is where in an answer those are that were refused.
type Failed struct {
	Items string `json:"items" doc:"The list of them." want:"yes"`
	Key   string `json:"key" doc:"Where in each the contact's key is." want:"yes"`
	Words string `json:"words" doc:"Where in each it is said why." want:"yes"`
}

// NewColl makes a collection and fills it.
type NewColl struct {
	Kind    string `json:"kind" doc:"Of which kind of collections it is." want:"yes"`
	Create  Call   `json:"create" doc:"The call that makes it." want:"yes"`
	ID      string `json:"id" doc:"Where in the answer its ID is." want:"yes"`
	Discard *Call  `json:"discard" doc:"The call that deletes it; without it there is no undoing."`
	Change
}

// Parse reads a recipe. The error names the place in it.
func Parse(text []byte) (*Recipe, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var tree any
	if err := d.Decode(&tree); err != nil {
		return nil, notJSON(text, d, err)
	}
	if d.More() {
		return nil, fmt.Errorf("the recipe goes on after its end, at byte %d", d.InputOffset())
	}
	if err := form.check("recipe", tree); err != nil {
		return nil, err
	}
	r := &Recipe{}
	if err := decode(text, r); err != nil {
		return nil, fmt.Errorf("the recipe is not understood: %w", err)
	}
	return r, r.check()
}

func notJSON(text []byte, d *json.Decoder, err error) error {
	before := text[:min(int(d.InputOffset()), len(text))]
	return fmt.Errorf("the recipe is not JSON, after line %d: %w", bytes.Count(before, []byte("\n"))+1, err)
}

// check holds what the form does not.
func (r *Recipe) check() error {
	if r.Recipe != 1 {
		return fmt.Errorf("recipe.recipe: the version is 1, not %d", r.Recipe)
	}
	if _, err := origin(r.Base); err != nil {
		return fmt.Errorf("recipe.base: %w", err)
	}
	if (r.SignIn.Header == "") == (r.SignIn.OAuth == nil) {
		return fmt.Errorf("recipe.signIn: give either header or oauth")
	}
	if r.PerSecond < 0 || r.PerSecond > 1000 {
		return fmt.Errorf("recipe.perSecond: it is 0 to 1,000")
	}
	kinds := map[string]bool{}
	for i, c := range r.Collections {
		at := fmt.Sprintf("recipe.collections[%d]", i)
		if c.Kind == "" || kinds[c.Kind] || strings.Contains(c.Kind, "/") {
			return fmt.Errorf("%s.kind: each kind has a name of its own, without /", at)
		}
		kinds[c.Kind] = true
		for where, p := range map[string]*Paging{at + ".paging": c.Paging, at + ".contacts.paging": c.Contacts.Paging} {
			if err := p.check(where); err != nil {
				return err
			}
		}
	}
	if len(r.Contact.Addresses) == 0 {
		return fmt.Errorf("recipe.contact.addresses: name where the address stands, such as \"email\"")
	}
	if n := r.Write.Collection; n != nil && !kinds[n.Kind] {
		return fmt.Errorf("recipe.write.collection.kind: there is no %q among the collections", n.Kind)
	}
	if r.Read == nil && len(r.Takes()) > 0 {
		return fmt.Errorf("recipe.read: nothing can be written back without a call that reads contacts as they are")
	}
	return r.checkMany()
}

// checkMany reports a call that is for many contacts and has room for one.
func (r *Recipe) checkMany() error {
	type call struct {
		at   string
		call *Call
		most int
	}
	var calls []call
	if r.Read != nil {
		calls = append(calls, call{"read", &r.Read.Call, r.Read.Most})
	}
	changes := r.changes()
	for _, act := range r.Takes() {
		c := changes[act]
		calls = append(calls, call{"write." + string(act) + ".set", &c.Set, c.Most})
		if c.Unset != nil {
			calls = append(calls, call{"write." + string(act) + ".unset", c.Unset, c.Most})
		}
	}
	for _, c := range calls {
		if where := c.call.names(ofContacts...); where != "" && c.most > 1 {
			return fmt.Errorf("recipe.%s.%s: it has room for one contact, and the call is for up to %d. Put what is of a contact into a list of the body, or leave most out", c.at, where, c.most)
		}
	}
	return nil
}

func (p *Paging) check(at string) error {
	if p == nil {
		return nil
	}
	ways := 0
	for _, given := range []bool{p.Next != "", p.Page != "", p.Offset != "", p.Link} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		return fmt.Errorf("%s: give one of next, page, offset and link", at)
	}
	return nil
}

// origin returns an address of a host that calls go to.
func origin(address string) (*url.URL, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" || u.Scheme != "https" && u.Scheme != "http" {
		return nil, fmt.Errorf("%q is not an address such as https://api.shed.fernhollow.example/v1", address)
	}
	return u, nil
}

// changes are the acts of a recipe.
func (r *Recipe) changes() map[connect.Act]*Change {
	w := r.Write
	out := map[connect.Act]*Change{connect.SetField: w.Field, connect.Tag: w.Tag, connect.Suppress: w.Suppress, connect.Disable: w.Disable, connect.Remove: w.Remove}
	if w.Collection != nil {
		out[connect.Collect] = &w.Collection.Change
	}
	return out
}

// Takes returns the acts that the recipe describes.
func (r *Recipe) Takes() []connect.Act {
	changes := r.changes()
	return slices.DeleteFunc(connect.Acts(), func(a connect.Act) bool { return changes[a] == nil })
}

// ReadAnswer reads the contacts of an answer, as of a collection of a kind ("": the first), and says
// how it goes on.
func (r *Recipe) ReadAnswer(kind string, answer []byte) (out []connect.Contact, next string, err error) {
	which := max(0, slices.IndexFunc(r.Collections, func(c Collections) bool { return c.Kind == kind }))
	if len(r.Collections) == 0 {
		return nil, "", connect.Troublef("The recipe names no collections.")
	}
	var v any
	if err := decode(answer, &v); err != nil {
		return nil, "", connect.Troublef("The answer is not JSON: %v.", err)
	}
	c := r.Collections[which].Contacts
	found, err := list(v, c.Items)
	if err != nil {
		return nil, "", err
	}
	for i, e := range found {
		one, err := r.Contact.contact(e, i)
		if err != nil {
			return nil, "", err
		}
		out = append(out, one)
	}
	switch {
	case c.Paging == nil:
		next = "takes it for all of them"
	case c.Paging.Next == "":
		next = "goes on after it"
	case text(at(v, c.Paging.Next)) == "":
		next = "takes it for the last page"
	default:
		next = fmt.Sprintf("goes on at %.80q", text(at(v, c.Paging.Next)))
	}
	return out, next, nil
}
