package naming

import "testing"

func TestOf(t *testing.T) {
	for _, c := range []struct {
		first, last, local string
		want               Pattern
	}{
		{"Ada", "Moss", "ada.moss", FirstDotLast}, {"Ada", "Moss", "Moss.Ada", LastDotFirst}, {"Ada", "Moss", "ada_moss", FirstUnderscoreLast},
		{"Ada", "Moss", "amoss", InitialLast}, {"Ada", "Moss", "a.moss", InitialDotLast}, {"Ada", "Moss", "adam", FirstInitial}, {"Ada", "Moss", "mossa", LastInitial},
		{"Ada", "Moss", "ada", FirstAlone}, {"Ada", "Moss", "moss", LastAlone}, {"Ada", "Moss", "adamoss", FirstLast}, {"Ada", "Moss", "wren", ""},
		{"Bjørn", "Müller", "bjoern.mueller", FirstDotLast}, {"Bjørn", "Müller", "bjorn.muller", FirstDotLast}, {"Ada-Marie", "Moss Berg", "ada.moss-berg", FirstDotLast},
		{"Ada Marie", "van der Berg", "ada.vanderberg", FirstDotLast}, {"Zoë", "Ćosić", "zoe.cosic", FirstDotLast}, {"", "Moss", "moss", ""}, {"Ada", "Moss", "ada.moss2", FirstDotLast}, {"Ada", "Moss", "amoss.1990", InitialLast}, {"你", "好", "nihao", ""},
	} {
		if got := Of(Name{c.first, c.last}, c.local); got != c.want {
			t.Errorf("%s %s as %s: %q, want %q", c.first, c.last, c.local, got, c.want)
		}
	}
}

// TestMake: what a pattern makes is read as made by it, unless an earlier one makes the same.
func TestMake(t *testing.T) {
	n := Name{"Zoë Ann", "Müller-Berg"}
	for _, p := range Patterns() {
		if local := Make(p, n); local == "" || Of(n, local) != p {
			t.Errorf("%s: %q, read as %q", p, local, Of(n, local))
		}
	}
	if Make(FirstDotLast, Name{First: "Zoë"}) != "" || Make("", n) != "" {
		t.Error("something was made of nothing")
	}
}

func TestParse(t *testing.T) {
	for full, want := range map[string]Name{
		"Ada Moss": {"Ada", "Moss"}, "Moss, Ada": {"Ada", "Moss"}, " Dr. Ada  Marie Moss ": {"Ada Marie", "Moss"}, "Prof. Dr. Jan van der Berg": {"Jan", "van der Berg"},
		"Ada": {"Ada", ""}, "": {}, "Moss,": {"Moss", ""}, "Vale, Dr. Wren": {"Wren", "Vale"}, "Jan de": {"Jan", "de"},
	} {
		if got := Parse(full); got != want {
			t.Errorf("%q: %+v", full, got)
		}
	}
}

func TestCapital(t *testing.T) {
	for name, want := range map[string]string{
		"ADA MOSS-BERG": "Ada Moss-Berg", "jan van der berg": "Jan van der Berg", "McDonald": "McDonald", "MCDONALD": "McDonald", "o'hara": "O'Hara",
		"Ada de Moss": "Ada de Moss", "øyvind": "Øyvind", "": "", "van": "Van",
	} {
		if got := Capital(name); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}

func TestHabits(t *testing.T) {
	h := Habits{}
	for _, p := range [][3]string{{"Ada", "Moss", "ada.moss"}, {"Wren", "Vale", "wren.vale"}, {"Jan", "Berg", "jan.berg"}, {"Ida", "Fern", "ida.fern"}} {
		h.See("orchard.example", Name{p[0], p[1]}, p[2])
		h.See("mixed.example", Name{p[0], p[1]}, p[2])
		h.See("mixed.example", Name{p[0], p[1]}, "x"+p[2])
	}
	if p, n, of := h.Habit("orchard.example"); p != FirstDotLast || n != 4 || of != 4 {
		t.Errorf("%q, %d of %d", p, n, of)
	}
	if p, _, _ := h.Habit("mixed.example"); p != "" {
		t.Errorf("half of them made a habit: %q", p)
	}
	if p, _, _ := h.Habit("attic.example"); p != "" {
		t.Errorf("a domain without addresses has the habit %q", p)
	}
	for local, want := range map[string]Name{"ada.moss": {"Ada", "Moss"}, "a.moss": {}, "ada.m.moss": {}, "info2.desk": {}, "ada": {}} {
		if n, ok := Read(FirstDotLast, local); n != want || ok != (want != Name{}) {
			t.Errorf("%q: %+v, %v", local, n, ok)
		}
	}
	if n, ok := Read(LastDotFirst, "moss.ada"); !ok || n.First != "Ada" {
		t.Errorf("%+v", n)
	}
	if _, ok := Read(InitialLast, "amoss"); ok {
		t.Error("an initial was read as a name")
	}
}

func TestShapeOf(t *testing.T) {
	for local, want := range map[string]Shape{
		"wren.vale": TwoWords, "Wren.Vale27": TwoWords, "w.vale": InitialWord, "wvale": OneWord, "wren_vale3": Underscored, "wren-vale": Hyphenated,
		"x9k2": OtherwiseSet, "a.b.c": OtherwiseSet, "wren.vale-moss": OtherwiseSet, "": OtherwiseSet, "1990": OtherwiseSet, "zoë.čapek": TwoWords,
	} {
		if got := ShapeOf(local); got != want {
			t.Errorf("%q: %q, want %q", local, got, want)
		}
	}
}
