package pack

import (
	"bytes"
	"encoding/hex"
	"flag"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

var update = flag.Bool("update", false, "write testdata anew; only for a form that has not been released")

// fill returns every field of a value something other than zero.
func fill(v reflect.Value, n *int) {
	*n++
	switch v.Interface().(type) {
	case time.Time:
		v.Set(reflect.ValueOf(time.Date(2026, 11, 27, 8, 0, *n, 0, time.UTC)))
		return
	case netip.Addr:
		v.Set(reflect.ValueOf(netip.AddrFrom4([4]byte{192, 0, 2, byte(*n)})))
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			fill(v.Field(i), n)
		}
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), n)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		fill(v.Index(0), n)
		fill(v.Index(1), n)
	case reflect.Map:
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(key, n)
		fill(value, n)
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(key, value)
	case reflect.String:
		v.SetString(fmt.Sprint("text ", *n))
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(*n))
	case reflect.Uint16, reflect.Uint64:
		v.SetUint(uint64(*n))
	case reflect.Float64:
		v.SetFloat(float64(*n) / 4)
	case reflect.Bool:
		v.SetBool(true)
	default:
		panic(v.Type().String() + " is not filled")
	}
}

// TestFormsComeBack: every value of the core comes back as it was kept, but for secrets,
// and what is kept is what the files of testdata hold: the records of databases that are
// there.
func TestFormsComeBack(t *testing.T) {
	var all bytes.Buffer
	types := slices.SortedFunc(maps.Keys(forms), func(a, b reflect.Type) int { return strings.Compare(forms[a].kept.Name(), forms[b].kept.Name()) })
	for _, c := range types {
		if c.Name() == "" { // the slices of the others
			continue
		}
		n, want := 0, reflect.New(c)
		fill(want.Elem(), &n)
		text, err := Marshal(want.Elem().Interface())
		if err != nil {
			t.Fatal(err)
		}
		got := reflect.New(c)
		if err := Unmarshal(text, got.Interface()); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(got.Interface(), want.Interface()) {
			t.Errorf("%v came back as %+v; want %+v", c, got.Elem(), want.Elem())
		}
		fmt.Fprintf(&all, "%s\n%s\n", forms[c].kept.Name(), text)
	}
	golden(t, "forms.txt", all.Bytes())
}

// TestPackedComesBack: packed values of version 1 are what they were when it was released.
func TestPackedComesBack(t *testing.T) {
	b := blockOf([]Row{
		{Ordinal: 1, Line: 2, Raw: []byte("Iris;iris@seed.example\r\n"), Typed: "iris@seed.example", Address: 1, Mailbox: "iris@seed.example", Domain: "seed.example"},
		{Ordinal: 2, Line: 3, Raw: []byte("x;\r\n"), Tail: []byte("\r\n")},
		{Ordinal: 3, Line: 5, Raw: []byte("y;IRIS@seed.example\r\n"), Typed: "IRIS@seed.example", Address: 1},
		{Ordinal: 4, Line: 6, Raw: []byte("z;no\r\n"), Typed: "no", Address: 4, Problem: &Problem{Cause: "syntax.malformed", Position: 2, Reason: "There is no @ in it."}},
		{Ordinal: 5, Line: 7, Raw: []byte("z; Info@seed.example\r\n"), Typed: "Info@Seed.example", Address: 5, Mailbox: "Info@seed.example", Domain: "seed.example",
			Traits: []string{"role"}, Mended: []string{"a space"}},
	})
	text := fmt.Sprintf("cells %s\nrecords %q\ntexts %q\nevidence %s\n", hex.EncodeToString(b.Cells), b.Records, b.Texts, hex.EncodeToString(Evidence(someEvidence()[:4])))
	golden(t, "packed1.txt", []byte(text))
}

func golden(t *testing.T, name string, got []byte) {
	t.Helper()
	file := "testdata/" + name
	if *update {
		if err := os.WriteFile(file, got, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got, want) {
		t.Errorf("%s would be\n%s\nand databases hold\n%s", name, got, want)
	}
}

// TestOtherVersions of packed values are refused with a sentence, and never misread.
func TestOtherVersions(t *testing.T) {
	packed := Evidence(someEvidence())
	packed[0] = 2
	if _, err := ReadEvidence(packed, 40); err == nil || !strings.Contains(err.Error(), "version 2") || !strings.Contains(err.Error(), "a newer one") {
		t.Errorf("evidence of version 2: %v", err)
	}
	b := blockOf([]Row{{Ordinal: 1, Line: 1, Raw: []byte("a\n"), Typed: "a"}})
	b.Cells[0] = 2
	if _, err := b.Rows(nil); err == nil || !strings.Contains(err.Error(), "version 2") {
		t.Errorf("a block of version 2: %v", err)
	}
}
