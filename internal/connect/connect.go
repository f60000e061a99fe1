// Package connect is the interface to places that contacts live in: contact platforms,
// directories, address books, mailing list managers, databases and files. Each kind of place has a
// package below this one, and says what of the interface it has.
//
// Reading: Test, Collections and Contacts. Writing back: an Order is one thing that is done to
// many contacts, such as setting a field. What an order does to a contact is always a change of
// one value, from what Now returns to what Write is given; so that whoever keeps the values of
// before can undo it by another Write.
package connect

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"varnet/core/problem"
	"varnet/core/say"
)

// Act is something that a place can do with a contact.
type Act string

// The acts.
const (
	Collect  Act = "collection" // put it into a new collection
	SetField Act = "field"      // set a field of it
	Tag      Act = "tag"        // put a tag on it
	Suppress Act = "suppress"   // put its address on the suppression list
	Disable  Act = "disable"    // stop delivery to it
	Remove   Act = "remove"     // take it out of its collection
	PutFile  Act = "file"       // write rows as a file; of places that hold files
)

// Acts are those that are done to contacts.
func Acts() []Act { return []Act{Collect, SetField, Tag, Suppress, Disable, Remove} }

// Field is a setting of a connection of some kind.
type Field struct {
	Name     string
	Title    string
	Help     string
	Example  string
	Secret   bool // kept sealed, and never returned
	Required bool
	Long     bool // several lines
	Choices  []string
	Default  string
	Given    bool // by the place and not by a person
}

// Settings are what a connection is set to, by the name of the field; secrets among them.
type Settings map[string]string

// Env is what places work with beside their settings.
type Env struct {
	// AllowPrivate lets them contact loopback and private addresses.
	AllowPrivate bool
	// TLS is how hosts are trusted; nil: as the system does.
	TLS *tls.Config
	// Folder holds a folder for each workspace, named by its number; "": there are no folders.
	Folder    string
	Workspace int64
	// Renew has a secret that is had replaced by what renew makes of it, by one at a time. Where
	// somebody was quicker, it returns what they made.
	Renew func(ctx context.Context, field, had string, renew func(string) (string, error)) (string, error)
}

// Kind is a kind of place.
type Kind struct {
	Code  string
	Title string
	// Says is what it is, in a sentence.
	Says   string
	Fields []Field
	// Takes are the acts that places of this kind can have; each place says which it has.
	Takes []Act
	// Files: its collections are files.
	Files bool
	// Leads returns where settings lead, which is where secrets are sent to.
	Leads func(Settings) string
	// Check reports what of settings cannot be, before anything is contacted; nil: nothing more
	// than the fields say.
	Check func(Settings) error
	// Open opens a place. It contacts nobody.
	Open func(Env, Settings) (Place, error)
}

// Collection is what a place offers to import.
type Collection struct {
	ID   string
	Name string
	Kind string // what the place calls it: list, group, segment, query, folder, address book
	// Contacts is how many it has; -1: the place does not say.
	Contacts int64
}

// Cell is a field of a contact.
type Cell struct{ Name, Value string }

// Contact is a contact as a place has it.
type Contact struct {
	// Key names it at the place, whatever else of it changes.
	Key string
	// Addresses are all it has, the one that is written to first.
	Addresses []string
	Cells     []Cell
}

// Page is some contacts of a collection, and from where to go on after them; "": only from the
// beginning.
type Page struct {
	Contacts []Contact
	Next     string
}

// Place is a place that contacts live in, with somebody's credentials.
type Place interface {
	// Test signs in, and returns what was seen.
	Test(ctx context.Context) (string, error)
	// Collections returns what it offers to import.
	Collections(ctx context.Context) ([]Collection, error)
	// Contacts calls each with the contacts of a collection, from a mark on that a Page gave
	// before; "" is the beginning. It may call it with a contact more than once after a break.
	Contacts(ctx context.Context, collection, from string, each func(Page) error) error
	// Takes returns the acts that it has.
	Takes() []Act
	Close() error
}

// Changes is a place that tells what has changed in a collection.
type Changes interface {
	Place
	// Token names how a collection stands now.
	Token(ctx context.Context, collection string) (string, error)
	// Since returns what has changed since a token; ok is false where the place does not know that
	// any more, or it is so much that the whole is better read.
	Since(ctx context.Context, collection, token string) (d Difference, ok bool, err error)
}

// Difference is what has changed in a collection.
type Difference struct {
	Changed []Contact // and those that are new
	Gone    []string  // keys
	Token   string    // names how it stands with that
}

// MostChanged is how many contacts a Difference has at most.
const MostChanged = 50_000

// Order is one thing that is done to many contacts.
type Order struct {
	Act Act
	// Name is that of the field, the tag or the new collection.
	Name string
	// Collection is the one that the contacts came from.
	Collection string
	// Refresh: a collection of that name which is there is brought up to date.
	Refresh bool
	// Target is what Begin returned.
	Target string
}

// Item is a contact that an order is for.
type Item struct {
	Key       string
	Addresses []string // as they were imported
	Value     string   // what it gets; Present or "" where the act knows no more
	// Version is what Now returned, so that nothing that was changed meanwhile is overwritten.
	Version string
}

// Present is the value of what is there or is not, such as a tag.
const Present = "yes"

// State is how a contact stands at the place now.
type State struct {
	Found     bool
	Addresses []string
	Value     string
	// Unknown: the place does not show the value, so that it cannot be put back.
	Unknown bool
	// Leave is why nothing may be written, as where what is there would be lost; "": it may.
	Leave   string
	Version string
}

// SeveralValues is why a field that has several values is left: one could take their place, and could not be
// taken back.
func SeveralValues(field string, values int) string {
	return fmt.Sprintf("it has %d values of %s, which would be lost", values, field)
}

// Taker is a place that takes something back.
type Taker interface {
	Place
	// Begin prepares an order: it makes the new collection, unless an attempt before did, and
	// returns what names it among the collections; "" where there is nothing to prepare.
	Begin(ctx context.Context, o Order) (target string, err error)
	// Now returns how contacts stand, in their order.
	Now(ctx context.Context, o Order, items []Item) ([]State, error)
	// Write gives each contact its value, which may be the one that it has. It returns an error
	// for each: nil, Skipped, or what the place said. Its own error is for all that are left.
	Write(ctx context.Context, o Order, items []Item) ([]error, error)
	// Members returns who is in the collection that an order is for: each with the key that it
	// has where it came from, or with addresses alone, and as Write takes it out.
	Members(ctx context.Context, o Order) ([]Item, error)
	// Discard undoes Begin.
	Discard(ctx context.Context, o Order) error
	// AtOnce is how many contacts Now and Write are best given.
	AtOnce(o Order) int
}

// File is a collection that is a file.
type File struct {
	// Unchanged: it is what the tag names, and has no body.
	Unchanged bool
	Name      string
	Tag       string // by which it is known again; "": it is not
	Body      io.ReadCloser
}

// FilePlace is a place whose collections are files.
type FilePlace interface {
	Place
	// Open opens the newest file of a collection, unless it is what tag names.
	Open(ctx context.Context, collection, tag string) (File, error)
	// Put writes a file, which appears under its name when it is whole, and returns where it is.
	Put(ctx context.Context, name, kind string, write func(io.Writer) error) (string, error)
}

// Trouble is what went wrong with a place, in a sentence for people.
type Trouble struct {
	Why string
	// Broken: it will not work until somebody changes the connection.
	Broken bool
	// Later: it may work if it is tried again soon.
	Later bool
	// Status is that of an answer by HTTP; 0: it was none.
	Status int
}

func (t *Trouble) Error() string { return t.Why }

// Troublef is a Trouble that is for one time.
func Troublef(format string, args ...any) error { return &Trouble{Why: fmt.Sprintf(format, args...)} }

// Broken is a Trouble that stays until somebody changes the connection.
func Broken(format string, args ...any) error {
	return &Trouble{Why: fmt.Sprintf(format, args...), Broken: true}
}

// Later is a Trouble that may pass.
func Later(format string, args ...any) error {
	return &Trouble{Why: fmt.Sprintf(format, args...), Later: true}
}

// Passes reports whether the same may work when it is tried again.
func Passes(err error) bool {
	var t *Trouble
	return errors.As(err, &t) && t.Later
}

// IsBroken reports whether it will not work until somebody changes the connection.
func IsBroken(err error) bool {
	var t *Trouble
	return errors.As(err, &t) && t.Broken
}

// StatusOf is the status of the answer that an error is of; 0: it is of none.
func StatusOf(err error) int {
	var t *Trouble
	if errors.As(err, &t) {
		return t.Status
	}
	return 0
}

// Skipped is why a contact was left as it is, though the place was well.
type Skipped struct{ Why string }

func (s *Skipped) Error() string { return s.Why }

// mostSetting is how long a setting may be.
const mostSetting = 200_000

// CheckSettings reports what of settings cannot be for a kind, and fills in what is left out.
func (k Kind) CheckSettings(s Settings) error {
	for _, name := range slices.Sorted(maps.Keys(s)) {
		if !slices.ContainsFunc(k.Fields, func(f Field) bool { return f.Name == name }) {
			return problem.In(name, "a connection of the kind %s has no such setting", k.Code)
		}
	}
	for _, f := range k.Fields {
		v := s[f.Name]
		if strings.TrimSpace(v) == "" && f.Default != "" {
			s[f.Name], v = f.Default, f.Default
		}
		switch {
		case f.Required && strings.TrimSpace(v) == "":
			return problem.In(f.Name, "%s is missing", f.Title)
		case len(v) > mostSetting:
			return problem.In(f.Name, "%s is too long", f.Title)
		case !f.Long && strings.ContainsAny(v, "\r\n\x00"):
			return problem.In(f.Name, "%s is one line", f.Title)
		case len(f.Choices) > 0 && v != "" && !slices.Contains(f.Choices, v):
			return problem.In(f.Name, "%s is one of %s", f.Title, strings.Join(f.Choices, ", "))
		}
	}
	if k.Check != nil {
		return k.Check(s)
	}
	return nil
}

// ByFields is for kinds of which some fields say where settings lead.
func ByFields(names ...string) func(Settings) string {
	return func(s Settings) string {
		out := make([]string, len(names))
		for i, name := range names {
			out[i] = strings.TrimSpace(s[name])
		}
		return strings.Join(out, "\n")
	}
}

// Secrets are the names of the settings that are kept sealed.
func (k Kind) Secrets() []string {
	var out []string
	for _, f := range k.Fields {
		if f.Secret {
			out = append(out, f.Name)
		}
	}
	return out
}

// Same reports whether a contact has the addresses that it had when it was imported; an order is
// for those, and for nobody else.
func Same(imported, now []string) bool {
	return slices.EqualFunc(InColumns(imported), InColumns(now), strings.EqualFold)
}

// InColumns are addresses as the columns of a list have them: the last holds all that are left,
// and empty ones at the end are left out.
func InColumns(addresses []string) []string {
	var out []string
	for i, a := range addresses {
		if a = strings.TrimSpace(a); i < MostAddresses {
			out = append(out, a)
		} else if a != "" {
			out[MostAddresses-1] += ", " + a
		}
	}
	for len(out) > 0 && out[len(out)-1] == "" {
		out = out[:len(out)-1]
	}
	return out
}

// The bounds of what is taken from a place.
const (
	MostCell      = 1 << 20 // of one field of a contact
	MostCells     = 2000    // fields of all contacts of an import
	MostAddresses = 8       // columns of addresses; what is more goes into the last
)

// Hold reports why a contact cannot be taken; nil where it can.
func (c Contact) Hold() error {
	if c.Key == "" {
		return Troublef("A contact has no key, and could not be found again. Check where the key is.")
	}
	for _, f := range c.Cells {
		if len(f.Value) > MostCell {
			return Troublef("The field “%s” of the contact %s has more than %d MB. Leave it out.", f.Name, shortened(c.Key, 60), MostCell>>20)
		}
	}
	return nil
}

// Text is a value as a list has it: without NUL, and without bytes that are not UTF-8.
func Text(v string) string {
	if say.IsText(v) {
		return v
	}
	return strings.ToValidUTF8(strings.ReplaceAll(v, "\x00", ""), "")
}

// shortened is a text of at most so many characters.
func shortened(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}

// CollectionKind is what a place calls a collection such as it makes.
func CollectionKind(p Place) string {
	if named, ok := p.(interface{ CollectionKind() string }); ok {
		return named.CollectionKind()
	}
	return "collection"
}
