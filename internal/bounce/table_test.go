package bounce

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"varnet/core/address"
	"varnet/core/bounce"
	"varnet/core/sheet"
	"varnet/internal/intake"
	"varnet/internal/store"
)

func table(t *testing.T, file string) *intake.Reading {
	t.Helper()
	r, err := intake.Read(t.Context(), strings.NewReader(file), "", sheet.Overrule{})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

var found = Columns{-1, -1, -1}

// TestLettersIn: to whom a mailing went is read with tags and Message-IDs where there are such columns; rows without an
// address are left out, and no mark at the beginning of a file keeps its first letter back.
func TestLettersIn(t *testing.T) {
	word := func(s *string) string {
		if s == nil {
			return "-"
		}
		return *s
	}
	for _, c := range []struct{ name, file, want string }{
		{"with all columns", "Tag,E-mail,Message-ID\n3-7-x,Ada@Fernhollow.example,<1@fernhollow.example>\n,ben@fernhollow.example,\n,nobody,2\n\n", "Ada@fernhollow.example 3-7-x 1@fernhollow.example; ben@fernhollow.example - -"},
		{"addresses alone", "ada@fernhollow.example\nben@fernhollow.example\n", "ada@fernhollow.example - -; ben@fernhollow.example - -"},
		{"with a mark before", "\xef\xbb\xbfada@fernhollow.example\nben@fernhollow.example\n", "ada@fernhollow.example - -; ben@fernhollow.example - -"},
		{"with a mark before its header", "\xef\xbb\xbfe-mail;tag\nada@fernhollow.example;t\n", "ada@fernhollow.example t -"},
	} {
		letters, err := LettersIn(table(t, c.file), found, address.Grammar{})
		var got []string
		for _, l := range letters {
			got = append(got, l.Mailbox+" "+word(l.Tag)+" "+word(l.MessageID))
		}
		if err != nil || strings.Join(got, "; ") != c.want {
			t.Errorf("%s: %v: %s", c.name, err, strings.Join(got, "; "))
		}
	}
	for _, c := range []struct {
		file string
		of   Columns
		want string
	}{
		{"name,town\nAda,Fernhollow\n", found, "no column holds addresses; choose the one that does"},
		{"name,e-mail\nAda,ada@fernhollow.example\n", Columns{5, -1, -1}, "no column holds addresses; choose the one that does"},
		{"e-mail,name\n,Ada\nnobody,Ben\n", Columns{0, -1, -1}, "the table holds no address"},
	} {
		var wrong *sheet.Error
		if _, err := LettersIn(table(t, c.file), c.of, address.Grammar{}); !errors.As(err, &wrong) || wrong.Problem != c.want {
			t.Errorf("%q: %v", c.file, err)
		}
	}
}

// outcomes reads a table of outcomes.
func outcomes(t *testing.T, file string, given store.TableMapping) (out []bounce.Notice, m store.TableMapping, err error) {
	t.Helper()
	r := table(t, file)
	if m, err = MappingFor(r, given); err != nil {
		return nil, m, err
	}
	for next := Outcomes(r, m, address.Grammar{}); ; {
		in, err := next()
		if errors.Is(err, io.EOF) {
			return out, m, nil
		}
		if err != nil {
			return out, m, err
		}
		out = append(out, *in.Notice)
	}
}

// TestOutcomes: a table of a sending tool is read by the names of its columns, its days as the column writes them, and its
// words as they are mapped or say themselves.
func TestOutcomes(t *testing.T) {
	for _, c := range []struct {
		name, file string
		given      store.TableMapping
		want       string
	}{
		{"by names", "Email,Status,Reason,Date,Message-ID\nada@fernhollow.example,hard bounce,550 5.1.1 no such user,2026-11-03 10:00:00,<1@x>\nnobody,bounced,,,\nben@fernhollow.example,delivered,,2026-11-04,\n", store.TableMapping{},
			"ada@fernhollow.example bounce 2026-11-03 10:00 1@x; nobody other 2026-11-04 00:00 "},
		{"days before months", "Adresse;Ergebnis;Datum\nada@fernhollow.example;weg;13.11.2026 08:30\nben@fernhollow.example;weg;02.10.2026 09:00\n", store.TableMapping{Outcome: 2, At: 3, Means: map[string]string{"weg": bounce.MeansBounced}},
			"ada@fernhollow.example bounce 2026-11-13 08:30 ; ben@fernhollow.example bounce 2026-10-02 09:00 "},
		{"months before days", "email,status,when\nada@fernhollow.example,bounced,11/13/2026\nben@fernhollow.example,bounced,10/02/2026\n", store.TableMapping{}, "ada@fernhollow.example bounce 2026-11-13 00:00 ; ben@fernhollow.example bounce 2026-10-02 00:00 "},
		{"bounces alone, without a header", "\xef\xbb\xbfada@fernhollow.example,550 5.1.1 no such user\nben@fernhollow.example,550 5.1.1 gone\n", store.TableMapping{Reason: 2}, "ada@fernhollow.example bounce - ; ben@fernhollow.example bounce - "},
	} {
		got, _, err := outcomes(t, c.file, c.given)
		var said []string
		for _, n := range got {
			at := "-"
			if !n.At.IsZero() {
				at = n.At.Format("2006-01-02 15:04")
			}
			kind := string(n.Kind)
			who := "nobody"
			if len(n.Recipients) > 0 {
				who = n.Recipients[0].Address
			}
			said = append(said, fmt.Sprintf("%s %s %s %s", who, kind, at, n.Original.ID))
		}
		if err != nil || strings.Join(said, "; ") != c.want {
			t.Errorf("%s: %v: %s", c.name, err, strings.Join(said, "; "))
		}
	}
}

// TestMappingFor: what of a table is not found is told with the remedy.
func TestMappingFor(t *testing.T) {
	for _, c := range []struct {
		file  string
		given store.TableMapping
		want  string
	}{
		{"name,status\nAda,bounced\n", store.TableMapping{}, "no column holds addresses; choose the one that does"},
		{"email,name\nada@fernhollow.example,Ada\n", store.TableMapping{}, "no column is called outcome or reason; choose the one that holds the outcome"},
		{"email,status\nada@fernhollow.example,bounced\n", store.TableMapping{Reason: 4}, "there is no column 4; the table has 2 columns"},
		{"email,status\nada@fernhollow.example,bounced\n", store.TableMapping{At: -2}, "there is no column -2; the table has 2 columns"},
	} {
		var wrong *sheet.Error
		if _, _, err := outcomes(t, c.file, c.given); !errors.As(err, &wrong) || wrong.Problem != c.want {
			t.Errorf("%q: %v", c.file, err)
		}
	}
	_, m, err := outcomes(t, "Timestamp,Response,Event,Recipient\n2026-11-03T10:00:00Z,550 gone,bounce,ada@fernhollow.example\n", store.TableMapping{})
	if err != nil || m.At != 1 || m.Reason != 2 || m.Outcome != 3 || m.Address != 4 {
		t.Errorf("%+v, %v", m, err)
	}
	if a, b := ColumnsKey(table(t, "Email,Status\na@b.example,x\n")), ColumnsKey(table(t, "EMAIL,status\nc@d.example,y\n")); a != b {
		t.Errorf("%q and %q", a, b)
	}
}
