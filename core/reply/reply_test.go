package reply

import (
	"os"
	"strings"
	"testing"

	"varnet/core/finding"
	"varnet/core/smtp"
)

// sample is a reply of the corpus with its meaning.
type sample struct {
	line  int
	text  string
	reply smtp.Reply
	want  Meaning
}

func corpus(t testing.TB) (samples []sample) {
	t.Helper()
	text, err := os.ReadFile("testdata/corpus.txt")
	if err != nil {
		t.Fatal(err)
	}
	var want Meaning
	for i, line := range strings.Split(string(text), "\n") {
		switch {
		case line == "" || line[0] == '#':
		case line[0] >= '2' && line[0] <= '5':
			r, ok := smtp.ParseReply(strings.ReplaceAll(line, `\n`, "\r\n"))
			if !ok {
				t.Fatalf("line %d: %q is no reply", i+1, line)
			}
			samples = append(samples, sample{i + 1, line, r, want})
		default:
			f := strings.Fields(line)
			want = Meaning{About: About(f[0]), Effect: Effect(f[1]), Cause: finding.Cause(f[2])}
		}
	}
	return samples
}

func TestCorpus(t *testing.T) {
	samples := corpus(t)
	for _, s := range samples {
		got := Read(s.reply)
		got.Why = ""
		if got != s.want {
			t.Errorf("line %d: %q is read as %s %s %s, want %s %s %s", s.line, s.text,
				got.About, got.Effect, got.Cause, s.want.About, s.want.Effect, s.want.Cause)
		}
	}
	if len(samples) < 400 {
		t.Errorf("the corpus has %d replies", len(samples))
	}
}

// TestEveryRuleHasItsExample holds each rule against the example beside it:
// it must be the first that fits.
func TestEveryRuleHasItsExample(t *testing.T) {
	for i := range rules {
		r, ok := smtp.ParseReply(rules[i].example)
		if !ok {
			t.Errorf("rule %d: %q is no reply", i, rules[i].example)
			continue
		}
		if got := Read(r); got != rules[i].Meaning {
			t.Errorf("%q is read by another rule: %s", rules[i].example, got.Why)
		}
		if _, ok := finding.Lookup(rules[i].Cause); !ok || !strings.HasSuffix(rules[i].Why, ".") {
			t.Errorf("%q: cause %q, reason %q", rules[i].example, rules[i].Cause, rules[i].Why)
		}
	}
}

// TestOnlyTheMailboxCanBeRefused holds the promise that what is about us or the
// moment never ends as undeliverable, for every reply of the corpus, also when
// it comes before any mailbox was named.
func TestOnlyTheMailboxCanBeRefused(t *testing.T) {
	for _, s := range corpus(t) {
		for _, m := range []Meaning{Read(s.reply), ReadSession(s.reply)} {
			info, _ := finding.Lookup(m.Cause)
			if m.About != Mailbox && info.Findings[0] == finding.Undeliverable {
				t.Errorf("%q: about %s, yet %s", s.text, m.About, m.Cause)
			}
		}
		if m := ReadSession(s.reply); m.About == Mailbox {
			t.Errorf("%q before any mailbox was named is read as being about one", s.text)
		}
	}
}

// FuzzRead holds that any reply is read as something, and that a name in an
// address never changes what the words around it mean.
func FuzzRead(f *testing.F) {
	for _, s := range corpus(f) {
		f.Add(s.reply.Code, s.reply.Text(), "blocked.listed.greylisted")
	}
	f.Fuzz(func(t *testing.T, code int, text, name string) {
		code = 200 + (code%400+400)%400
		r := smtp.Reply{Code: code, Lines: []string{text}}
		m := Read(r)
		if _, ok := finding.Lookup(m.Cause); !ok || m.Why == "" {
			t.Fatalf("%q: %+v", r, m)
		}
		if strings.ContainsAny(name+text, " \t\n\v\f\r\u0085\u00a0@…<>") || strings.TrimSpace(name) == "" {
			return
		}
		with := Read(smtp.Reply{Code: code, Lines: []string{text + " <" + name + "@fernhollow.example>"}})
		if with != m {
			t.Fatalf("%q with the name %q: %+v, not %+v", r, name, with, m)
		}
	})
}

// TestAReaderReadsAsRead: what is remembered is what would have been read, also of
// replies that differ in nothing but the address they name.
func TestAReaderReadsAsRead(t *testing.T) {
	var r Reader
	samples := corpus(t)
	for range 2 {
		for _, s := range samples {
			if got, want := r.Read(s.reply, s.reply.String()), Read(s.reply); got != want {
				t.Errorf("line %d: %q is remembered as %+v, and read as %+v", s.line, s.text, got, want)
			}
		}
	}
	for i, text := range []string{"550 5.1.1 <ada@seed.example>: no such user", "550 5.1.1 <blocked@seed.example>: no such user", "450 5.1.1 <ada@seed.example>: no such user",
		"550 5.7.1 <ada@seed.example>: no such user", "550 5.1.1 <ada@seed.example>: mailbox full"} {
		reply, _ := smtp.ParseReply(text)
		before := len(r.alike)
		if got, want := r.Read(reply, text), Read(reply); got != want {
			t.Errorf("%q is remembered as %+v, and read as %+v", text, got, want)
		}
		if alike := len(r.alike) == before; alike && i == 0 || !alike && i == 1 {
			t.Errorf("%q: alike %v", text, alike)
		}
	}
}
