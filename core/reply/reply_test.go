package reply

import (
	"fmt"
	"os"
	"slices"
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
	var text []byte
	for _, file := range []string{"corpus.txt", "world.txt"} {
		one, err := os.ReadFile("testdata/" + file)
		if err != nil {
			t.Fatal(err)
		}
		text = append(text, one...)
	}
	var want Meaning
	for i, line := range strings.Split(string(text), "\n") {
		switch {
		case line == "" || line[0] == '#':
		case line[0] >= '2' && line[0] <= '5':
			r, ok := smtp.ParseReply(strings.ReplaceAll(line, `\n`, "\r\n"))
			if !ok {
				t.Fatalf("line %d: %q is not a reply", i+1, line)
			}
			samples = append(samples, sample{i + 1, line, r, want})
		default:
			f := strings.Fields(line)
			want = Meaning{About: About(f[0]), Effect: Effect(f[1]), Cause: finding.Cause(f[2])}
		}
	}
	return samples
}

// asked is the question of the corpus.
var asked = Question{Mailbox: "ada@fernhollow.example", Helo: "verify.fernhollow.example", Sender: "check@fernhollow.example"}

// TestField holds the reading against replies as hosts really send them and what an
// expert accepts as their reading: at least 99 in 100 right, and none harmfully wrong.
func TestField(t *testing.T) {
	text, err := os.ReadFile("testdata/field.tsv")
	if err != nil {
		t.Fatal(err)
	}
	q := Question{Mailbox: "ada@seedhouse.example", Helo: "probe.verify.example", Sender: "probe@verify.example"}
	all, wrong, harmful := 0, 0, 0
	for i, line := range strings.Split(strings.TrimSpace(string(text)), "\n")[1:] {
		f := strings.Split(line, "\t")
		r, ok := smtp.ParseReply(strings.ReplaceAll(f[1], `\n`, "\r\n"))
		if !ok {
			t.Fatalf("line %d: %q is not a reply", i+2, f[1])
		}
		m := Read(r, q)
		if f[0] != "rcpt" {
			m = ReadSession(r, q)
		}
		if all++; slices.Contains(strings.Split(f[3], "|"), string(m.Cause)) {
			continue
		}
		wrong++
		t.Logf("line %d: %q is read as %s %s (%s), accepted: %s; harmful: %s", i+2, f[1], m.About, m.Cause, m.Why, f[3], f[4])
		if f[4] == "yes" {
			harmful++
		}
	}
	if wrong*100 > all || harmful > 0 {
		t.Errorf("%d of %d are read wrongly, %d harmfully", wrong, all, harmful)
	}
}

func TestCorpus(t *testing.T) {
	samples := corpus(t)
	for _, s := range samples {
		got := Read(s.reply, asked)
		got.Why = ""
		if got != s.want {
			t.Errorf("line %d: %q is read as %s %s %s, want %s %s %s", s.line, s.text,
				got.About, got.Effect, got.Cause, s.want.About, s.want.Effect, s.want.Cause)
		}
	}
	if len(samples) < 800 {
		t.Errorf("the corpus has %d replies", len(samples))
	}
}

// TestEveryRuleHasItsExample holds each rule against the example beside it:
// it must be the first that fits.
func TestEveryRuleHasItsExample(t *testing.T) {
	for i := range rules {
		r, ok := smtp.ParseReply(rules[i].example)
		if !ok {
			t.Errorf("rule %d: %q is not a reply", i, rules[i].example)
			continue
		}
		if got := Read(r, asked); got != rules[i].Meaning {
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
		for _, m := range []Meaning{Read(s.reply, asked), ReadSession(s.reply, asked)} {
			info, _ := finding.Lookup(m.Cause)
			if m.About != Mailbox && info.Findings[0] == finding.Undeliverable {
				t.Errorf("%q: about %s, yet %s", s.text, m.About, m.Cause)
			}
		}
		if m := ReadSession(s.reply, asked); m.About == Mailbox {
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
		m := Read(r, Question{})
		if _, ok := finding.Lookup(m.Cause); !ok || m.Why == "" {
			t.Fatalf("%q: %+v", r, m)
		}
		if strings.ContainsAny(name+text, " \t\n\v\f\r\u0085\u00a0@…<>") || strings.TrimSpace(name) == "" {
			return
		}
		with := Read(smtp.Reply{Code: code, Lines: []string{text + " <" + name + "@fernhollow.example>"}}, Question{})
		if with != m {
			t.Fatalf("%q with the name %q: %+v, not %+v", r, name, with, m)
		}
	})
}

// TestAReaderReadsAsRead: what is remembered is what would have been read, also of
// replies that differ in nothing but the address they name.
func TestAReaderReadsAsRead(t *testing.T) {
	r := Reader{Helo: asked.Helo, Sender: asked.Sender}
	samples := corpus(t)
	for range 2 {
		for _, s := range samples {
			if got, want := r.Read(s.reply, s.reply.String(), asked.Mailbox), Read(s.reply, asked); got != want {
				t.Errorf("line %d: %q is remembered as %+v, and read as %+v", s.line, s.text, got, want)
			}
		}
	}
	for i, text := range []string{"550 5.1.1 <ada@seed.example>: no such user", "550 5.1.1 <blocked@seed.example>: no such user", "450 5.1.1 <ada@seed.example>: no such user",
		"550 5.7.1 <ada@seed.example>: no such user", "550 5.1.1 <ada@seed.example>: mailbox full"} {
		reply, _ := smtp.ParseReply(text)
		before := len(r.alike)
		if got, want := r.Read(reply, text, "ada@seed.example"), Read(reply, Question{"ada@seed.example", asked.Helo, asked.Sender}); got != want {
			t.Errorf("%q is remembered as %+v, and read as %+v", text, got, want)
		}
		if alike := len(r.alike) == before; alike && i == 0 || !alike && i == 1 {
			t.Errorf("%q: alike %v", text, alike)
		}
	}
}

// TestAReaderReadsOfEverybody: one reader hears the same sentences about many mailboxes, some with names that hosts use as words, that
// look like links, that end in our sender's address, or that the sentence repeats. It reads each as it would be read alone.
func TestAReaderReadsOfEverybody(t *testing.T) {
	r := Reader{Helo: asked.Helo, Sender: asked.Sender}
	mailboxes := []string{"ada.moss@seed.example", "User@seed.example", "blocked@seed.example", "sorry@user.example", "www.ada@seed.example", "pre" + asked.Sender, asked.Sender, `"a b"@seed.example`,
		"relay@mailbox.example", "x@full.example", "ÄDA@seed.example", asked.Mailbox}
	sentences := []string{"550 5.1.1 %s: no such user", "550 5.1.1 Sorry, <%s> is not here", "550 5.7.1 <%s>: User blocked", "554 5.7.1 <%s>: relay access denied at mailbox.example", "452 4.2.2 %s mailbox full", "550 5.1.1 \x00: no such user than %s"}
	samples := corpus(t)
	for _, mailbox := range mailboxes {
		var replies []smtp.Reply
		for _, s := range samples {
			reply := s.reply
			reply.Lines = nil
			for _, line := range s.reply.Lines {
				reply.Lines = append(reply.Lines, strings.ReplaceAll(line, asked.Mailbox, mailbox))
			}
			replies = append(replies, reply)
		}
		for _, s := range sentences {
			reply, _ := smtp.ParseReply(fmt.Sprintf(s, mailbox))
			replies = append(replies, reply)
		}
		if absent := Read(replies[len(samples)], Question{mailbox, asked.Helo, asked.Sender}); absent.About != Mailbox && mailbox != asked.Sender {
			t.Errorf("%q is read as %+v", replies[len(samples)], absent)
		}
		for _, reply := range replies {
			if got, want := r.Read(reply, reply.String(), mailbox), Read(reply, Question{mailbox, asked.Helo, asked.Sender}); got != want {
				t.Errorf("%s, %q: remembered as %+v, and read as %+v", mailbox, reply, got, want)
			}
		}
	}
}

// BenchmarkReader reads what one host says about many mailboxes, beside reading each reply by itself.
func BenchmarkReader(b *testing.B) {
	const mailboxes = 1000
	replies := make([]smtp.Reply, mailboxes)
	for i := range replies {
		replies[i] = smtp.Reply{Code: 550, Enhanced: "5.1.1", Lines: []string{fmt.Sprintf("5.1.1 <person%d@seed.example>: Recipient address rejected: User unknown", i)}}
	}
	r := Reader{Helo: asked.Helo, Sender: asked.Sender}
	for what, read := range map[string]func(reply smtp.Reply, mailbox string){
		"remembered":         func(reply smtp.Reply, mailbox string) { r.Read(reply, reply.String(), mailbox) },
		"each, the baseline": func(reply smtp.Reply, mailbox string) { Read(reply, Question{mailbox, asked.Helo, asked.Sender}) },
	} {
		b.Run(what, func(b *testing.B) {
			b.ReportAllocs()
			for i := range b.N {
				read(replies[i%mailboxes], fmt.Sprintf("person%d@seed.example", i%mailboxes))
			}
		})
	}
}

// TestEveryReportRuleHasItsExample holds each rule of what notices report against the
// example beside it.
func TestEveryReportRuleHasItsExample(t *testing.T) {
	for _, rule := range reportRules {
		r, ok := smtp.ParseReply(rule.example)
		if !ok || rule.Why == "" || rule.Cause == "" {
			t.Errorf("%q: a reply: %v, cause %q, reason %q", rule.example, ok, rule.Cause, rule.Why)
			continue
		}
		if got := ReadReported(Reported{Reply: r, Heard: !rule.own}, asked); got != rule.Meaning {
			t.Errorf("%q is read by another rule: %s", rule.example, got.Why)
		}
	}
}
