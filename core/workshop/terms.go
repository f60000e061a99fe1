package workshop

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// How is how a term must stand in a cell.
type How string

// The ways.
const (
	AsCell   How = "cell"   // the cell is the term
	AsWord   How = "word"   // the term stands in it as a word, or as several
	AsPart   How = "part"   // the term stands anywhere in it
	AsDomain How = "domain" // the cell is a domain, or an address at one, that is the term or under it
	AsNumber How = "number" // the digits of the cell are those of the term
)

// Terms finds in a cell whether one of many terms stands in it. Case does not count.
type Terms struct {
	how   How
	whole map[string]bool
	most  map[string]int // words of the longest term that begins with a word
	parts *automaton
	n     int
}

// NewTerms makes terms ready to be found. What is empty is left out; of domains a leading "@"
// or "*." too.
func NewTerms(how How, terms []string) (*Terms, error) {
	t := &Terms{how: how, whole: map[string]bool{}, most: map[string]int{}}
	switch how {
	case AsCell, AsWord, AsPart, AsDomain, AsNumber:
	default:
		return nil, fmt.Errorf("a term stands in a cell as cell, word, part, domain or number, not as %q", how)
	}
	for _, text := range terms {
		folded := t.fold(text)
		if folded == "" || t.whole[folded] {
			continue
		}
		t.whole[folded] = true
		t.n++
		first, _, _ := strings.Cut(folded, " ")
		t.most[first] = max(t.most[first], strings.Count(folded, " ")+1)
	}
	if how == AsPart {
		t.parts = newAutomaton(t.whole)
		t.whole = nil
	}
	return t, nil
}

// Len is how many terms there are, each counted once.
func (t *Terms) Len() int { return t.n }

func (t *Terms) fold(text string) string {
	switch t.how {
	case AsWord:
		return foldWords(text)
	case AsNumber:
		return digits(text)
	case AsDomain:
		text = strings.TrimPrefix(strings.TrimPrefix(strings.ToLower(strings.TrimSpace(text)), "@"), "*.")
		return strings.Trim(text, ".")
	}
	return strings.ToLower(strings.TrimSpace(text))
}

// foldWords are the words of a text, letters and digits, in lower case, with a space between.
func foldWords(text string) string {
	out, gap := make([]byte, 0, len(text)), false
	for _, r := range text {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) {
			gap = len(out) > 0
			continue
		}
		if gap {
			out, gap = append(out, ' '), false
		}
		out = utf8.AppendRune(out, unicode.ToLower(r))
	}
	return string(out)
}

// In reports whether one of the terms stands in a cell.
func (t *Terms) In(cell string) bool {
	if cell == "" || t.n == 0 {
		return false
	}
	switch t.how {
	case AsPart:
		return t.parts.in(strings.ToLower(cell))
	case AsWord:
		return t.word(foldWords(cell))
	case AsDomain:
		return t.domain(t.fold(cell[strings.LastIndexByte(cell, '@')+1:]))
	}
	return t.whole[t.fold(cell)]
}

// word looks for a term that begins at one of the words of a folded text.
func (t *Terms) word(text string) bool {
	for text != "" {
		first, rest, _ := strings.Cut(text, " ")
		most := t.most[first]
		for end, n := len(first), 1; n <= most; n++ {
			if t.whole[text[:end]] {
				return true
			}
			if end == len(text) {
				break
			}
			next := strings.IndexByte(text[end+1:], ' ')
			if end++; next < 0 {
				end = len(text)
			} else {
				end += next
			}
		}
		text = rest
	}
	return false
}

// domain looks a domain up, and those that it is under.
func (t *Terms) domain(name string) bool {
	for name != "" {
		if t.whole[name] {
			return true
		}
		_, under, ok := strings.Cut(name, ".")
		if !ok {
			return false
		}
		name = under
	}
	return false
}

// Strike are the rows of a table in which no term stands, or (with keep) those in which one does.
// It looks in some columns, or (with none) in all.
func Strike(t Table, terms *Terms, columns []int, keep bool) Table {
	return t.chosen(func() (func(int64, Row) bool, error) {
		return func(_ int64, row Row) bool {
			found := false
			if len(columns) == 0 {
				for _, cell := range row.Cells() {
					found = found || terms.In(cell)
				}
			}
			for _, c := range columns {
				found = found || terms.In(row.Cell(c))
			}
			return found == keep
		}, nil
	})
}
