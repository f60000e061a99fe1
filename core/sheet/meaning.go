package sheet

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// Holds is what the cells of a column are about.
type Holds string

// What columns hold, beyond addresses.
const (
	FirstName Holds = "first-name"
	LastName  Holds = "last-name"
	WholeName Holds = "name"
	// Activity is days on which something was seen of the address: an order, a click.
	Activity Holds = "activity"
	// Opinion is what somebody else's check found.
	Opinion Holds = "opinion"
)

// Meaning is what a column of a list holds.
type Meaning struct {
	Column int // from 0
	Holds  Holds
	// Of is what was seen (Activity), or whose check it was (Opinion).
	Of string
}

// namesOf are what columns of names are called, in letters alone.
var namesOf = map[Holds][]string{
	FirstName: {"firstname", "givenname", "forename", "first", "fname", "vorname", "rufname", "prénom", "prenom", "nombre", "voornaam", "förnamn", "fornavn", "imię", "etunimi"},
	LastName: {"lastname", "surname", "familyname", "last", "lname", "nachname", "familienname", "zuname", "nomdefamille", "nom", "apellido", "apellidos", "cognome", "achternaam",
		"efternamn", "etternavn", "efternavn", "nazwisko", "sukunimi"},
	WholeName: {"name", "fullname", "contactname", "membername", "displayname", "person", "contact", "nomcomplet", "nombrecompleto", "vollername"},
}

// GuessMeanings tells the columns with names by what they are called: those of first and last
// names, or else one with whole names.
func GuessMeanings(columns []string) (out []Meaning) {
	at := func(h Holds) int {
		return slices.IndexFunc(columns, func(c string) bool { return slices.Contains(namesOf[h], lettersOf(c)) })
	}
	first, last := at(FirstName), at(LastName)
	if first >= 0 && last >= 0 {
		return []Meaning{{Column: first, Holds: FirstName}, {Column: last, Holds: LastName}}
	}
	if whole := at(WholeName); whole >= 0 {
		return []Meaning{{Column: whole, Holds: WholeName}}
	}
	return nil
}

func lettersOf(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}

// MostOf is how long what was seen, or whose check it was, may be called, in bytes.
const MostOf = 60

// NamedMeaning is what a column holds, by its name.
type NamedMeaning struct {
	Column string
	Holds  Holds
	Of     string
}

// ReadMeaning reads COLUMN=HOLDS or COLUMN=HOLDS:OF, such as "Last order=activity:ordered".
func ReadMeaning(text string) (m NamedMeaning, err error) {
	at := strings.LastIndexByte(text, '=')
	if at < 1 {
		return m, fmt.Errorf("%q does not say what a column holds; write it as COLUMN=first-name, or COLUMN=activity:ordered", text)
	}
	holds, of, _ := strings.Cut(text[at+1:], ":")
	return NamedMeaning{text[:at], Holds(holds), strings.TrimSpace(of)}, nil
}

// MeaningsOf finds the columns that are named, and tells what is wrong with what they are said to hold.
func MeaningsOf(columns []string, all []NamedMeaning) ([]Meaning, error) {
	out := []Meaning{}
	for _, m := range all {
		at := slices.Index(columns, m.Column)
		if at < 0 {
			return nil, fmt.Errorf("there is no column %q, which is said to hold something", m.Column)
		}
		out = append(out, Meaning{at, m.Holds, m.Of})
	}
	return out, CheckMeanings(columns, out)
}

// CheckMeanings tells what is wrong with what columns are said to hold: the column, what is wrong and
// the remedy.
func CheckMeanings(columns []string, all []Meaning) error {
	used, holds, of := map[int]bool{}, map[Holds]bool{}, map[string]bool{}
	for _, m := range all {
		if m.Column < 0 || m.Column >= len(columns) {
			return fmt.Errorf("the list has %d columns, and no column %d", len(columns), m.Column+1)
		}
		name := columns[m.Column]
		named := m.Holds == FirstName || m.Holds == LastName || m.Holds == WholeName
		switch {
		case used[m.Column]:
			return fmt.Errorf("the column %q is said to hold two things; choose one", name)
		case !named && m.Holds != Activity && m.Holds != Opinion:
			return fmt.Errorf("the column %q cannot hold %q; use first-name, last-name, name, activity or opinion", name, m.Holds)
		case named && holds[m.Holds]:
			return fmt.Errorf("two columns are said to hold the %s; choose one", m.Holds)
		case named && m.Of != "":
			return fmt.Errorf("the column %q holds a name, which is of nothing: leave out %q", name, m.Of)
		case m.Holds == Activity && m.Of == "":
			return fmt.Errorf("give what was seen on the days in the column %q, such as opened or ordered", name)
		case m.Holds == Opinion && m.Of == "":
			return fmt.Errorf("give whose check found what is in the column %q", name)
		case len(m.Of) > MostOf || strings.ContainsFunc(m.Of, unicode.IsControl):
			return fmt.Errorf("%q is too long or holds control characters; at most %d bytes", m.Of, MostOf)
		case m.Holds == Opinion && of[strings.ToLower(m.Of)]:
			return fmt.Errorf("two columns are said to hold what %s found; give them different names", m.Of)
		}
		used[m.Column], holds[m.Holds] = true, true
		if m.Holds == Opinion {
			of[strings.ToLower(m.Of)] = true
		}
	}
	return nil
}
