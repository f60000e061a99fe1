package sheet

import (
	"slices"
	"strings"
	"testing"
)

func TestGuessMeanings(t *testing.T) {
	for _, c := range []struct {
		columns []string
		want    []Meaning
	}{
		{[]string{"E-mail", "Last name", "First_Name"}, []Meaning{{Column: 2, Holds: FirstName}, {Column: 1, Holds: LastName}}},
		{[]string{"Nachname", "Vorname", "Name"}, []Meaning{{Column: 1, Holds: FirstName}, {Column: 0, Holds: LastName}}},
		{[]string{"Member no.", "Name", "E-mail"}, []Meaning{{Column: 1, Holds: WholeName}}},
		{[]string{"First name", "E-mail"}, nil}, // half a name tells nothing
		{[]string{"Plant name", "E-mail"}, nil},
		{nil, nil},
	} {
		if got := GuessMeanings(c.columns); !slices.Equal(got, c.want) {
			t.Errorf("%v: %+v, want %+v", c.columns, got, c.want)
		}
	}
}

func TestCheckMeanings(t *testing.T) {
	columns := []string{"E-mail", "Name", "Opened", "Checker"}
	good := []Meaning{{1, WholeName, ""}, {2, Activity, "opened"}, {3, Opinion, "Old checker"}}
	if err := CheckMeanings(columns, good); err != nil {
		t.Error(err)
	}
	for _, wrong := range [][]Meaning{
		{{4, WholeName, ""}}, {{-1, WholeName, ""}}, {{1, WholeName, ""}, {1, LastName, ""}}, {{1, "telephone", ""}}, {{1, WholeName, ""}, {2, WholeName, ""}}, {{1, WholeName, "x"}},
		{{2, Activity, ""}}, {{3, Opinion, ""}}, {{3, Opinion, "a\nb"}}, {{3, Opinion, strings.Repeat("x", 61)}}, {{3, Opinion, "A"}, {2, Opinion, "a"}},
	} {
		if CheckMeanings(columns, wrong) == nil {
			t.Errorf("%+v is taken", wrong)
		}
	}
}

func TestMeaningsOf(t *testing.T) {
	var all []NamedMeaning
	for _, text := range []string{"Vor=name=first-name", "Nachname=last-name", "Last order=activity: ordered"} {
		m, err := ReadMeaning(text)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, m)
	}
	got, err := MeaningsOf([]string{"E-mail", "Last order", "Vor=name", "Nachname"}, all)
	if want := []Meaning{{2, FirstName, ""}, {3, LastName, ""}, {1, Activity, "ordered"}}; err != nil || !slices.Equal(got, want) {
		t.Errorf("%v: %+v, want %+v", err, got, want)
	}
	if _, err := MeaningsOf([]string{"E-mail"}, all); err == nil {
		t.Error("a column that there is not is taken")
	}
	if _, err := ReadMeaning("first-name"); err == nil {
		t.Error("a meaning without a column is taken")
	}
}
