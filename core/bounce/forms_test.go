package bounce

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/simplifiedchinese"

	"varnet/core/reply"
)

// reason is why a made-up host did not take a message, and what a reader is to make of it.
type reason struct{ code, status, words, cause, permanent string }

// letterBack is one message of the corpus: a form that some system writes, with a reason.
type letterBack struct {
	name, to, final string
	raw             []byte
	kind            string
	reason          reason
}

func (r reason) permanently() bool { return r.permanent == "yes" }

// corpus writes every form of testdata/forms with every reason it can carry: forms that
// quote the reply of another host ("remote") with all of testdata/reasons.tsv, the others
// with their own.
func corpus(t testing.TB) (all []letterBack) {
	t.Helper()
	var remote []reason
	for _, row := range table(t, "testdata/reasons.tsv") {
		remote = append(remote, reason{row[0], row[1], row[2], row[3], row[4]})
	}
	files, err := filepath.Glob("testdata/forms/*.txt")
	if err != nil || len(files) < 40 {
		t.Fatalf("%d forms, %v", len(files), err)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		head, body, _ := strings.Cut(string(text), "\n")
		fields := strings.Fields(head)[1:]
		reasons := []reason{{}}
		if fields[0] == "remote" {
			reasons = remote
		} else if own := ownReasons(&body); own != nil {
			reasons = own
		}
		for _, r := range reasons {
			all = append(all, write(strings.TrimSuffix(filepath.Base(file), ".txt"), fields, body, r, len(all)))
		}
	}
	return all
}

// ownReasons takes the reasons off the head of a form.
func ownReasons(body *string) (own []reason) {
	for strings.HasPrefix(*body, "= ") {
		var line string
		line, *body, _ = strings.Cut(*body, "\n")
		f := strings.Split(line[2:], "\t")
		r := reason{"", strings.Trim(f[1], "-"), f[0], f[2], f[3]}
		if r.words == "-" {
			r.words = ""
		}
		own = append(own, r)
	}
	return own
}

var people = []string{"ada.moss", "wren.hollis", "linnea", "o-brien", "Jonas.Vale", "seeds+spring", "info", "user", "m.k.", "unknown", "full.moon"}

func write(name string, form []string, body string, r reason, i int) letterBack {
	local := strings.Trim(people[i%len(people)], ".")
	if strings.HasPrefix(name, "international") {
		local = "renée"
	}
	domain := fmt.Sprintf("garden%d.example", i)
	m := letterBack{name: fmt.Sprintf("%s %d", name, i), to: local + "@" + domain, kind: form[0], reason: r}
	m.final = m.to
	if len(form) > 1 && form[1] == "forward" {
		m.final = fmt.Sprintf("private%d@bigpost.example", i)
	}
	head := strings.Join([]string{"Return-Path: <returns@fernhollow.example>", "Received: from out.fernhollow.example (192.0.2.10) by mx." + domain,
		"From: Fernhollow Seed Library <letters@fernhollow.example>", "To: {rcpt}", "Subject: Spring sowing letter", "Message-ID: <{mid}>"}, "\n")
	status0, code := r.status, r.code
	if status0 == "" && code != "" {
		status0 = code[:1] + ".0.0"
	}
	words := strings.NewReplacer("{rcpt}", m.final, "{local}", local, "{domain}", domain, "{mx}", "mx."+domain).Replace(r.words)
	fill := strings.NewReplacer("{orig}", head+"\n\nDear reader,\n\nthe soil is warming.\n", "{orighead}", head)
	text := strings.NewReplacer("{rcpt}", m.to, "{final}", m.final, "{local}", local, "{domain}", domain, "{host}", "mail."+domain, "{mx}", "mx."+domain,
		"{to}", "returns@fernhollow.example", "{verp}", fmt.Sprintf("returns+%s@fernhollow.example", verpTag(i)), "{mid}", fmt.Sprintf("letter%d@fernhollow.example", i),
		"{date}", "Tue, 17 Mar 2026 07:30:05 +0000", "{code}", code, "{status0}", status0, "{status}", r.status, "{words}", words, "{wordsqp}", strings.ReplaceAll(words, "=", "=3D"),
	).Replace(fill.Replace(body))
	m.raw = []byte(encodeMarks(text))
	return m
}

func verpTag(i int) string { return fmt.Sprintf("tag%d", i) }

// encodeMarks writes "{base64:…}" and the like as what they name.
func encodeMarks(text string) string {
	charsets := map[string]encoding.Encoding{"latin1": charmap.ISO8859_1, "koi8": charmap.KOI8R, "jis": japanese.ISO2022JP, "gbk": simplifiedchinese.GBK}
	for name, enc := range charsets {
		text = mark(text, name, func(s string) string { out, _ := enc.NewEncoder().String(s); return out })
	}
	return mark(text, "base64", func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) })
}

func mark(text, name string, encode func(string) string) string {
	for {
		before, rest, ok := strings.Cut(text, "{"+name+":")
		if !ok {
			return text
		}
		inner, after, _ := strings.Cut(rest, "}")
		text = before + encode(inner) + after
	}
}

// wanted is the kind of notice that each kind of form is.
var wanted = map[string]Kind{"remote": Bounce, "fixed": Bounce, "delay": Delay, "auto": AutoReply, "challenge": Challenge, "complaint": Complaint, "other": Other,
	"delivery": Delivery, "foreign": Bounce, "nobody": Bounce}

// TestForms holds every message of the corpus against what it was written to say.
func TestForms(t *testing.T) {
	all := corpus(t)
	sent := mailing{map[string]string{}, map[string]string{}, map[string]string{}}
	senders := map[string]bool{}
	for i, m := range all {
		sent.byAddress[strings.ToLower(m.to)], sent.byTag[verpTag(i)], sent.byID[fmt.Sprintf("letter%d@fernhollow.example", i)] = m.to, m.to, m.to
		senders[strings.Fields(m.name)[0]] = true
	}
	right, harmful := 0, 0
	for _, m := range all {
		n := Read(m.raw)
		credits := Whom(n, sent)
		problem := m.wrong(n, credits)
		if problem == "" {
			right++
			continue
		}
		if harms := slices.ContainsFunc(credits, func(c Credit) bool { return c.Recipient.Permanent != m.reason.permanently() }); harms {
			harmful++
		}
		t.Errorf("%s: %s\n\tread as %s", m.name, problem, show(n, credits))
	}
	t.Logf("%d of %d messages of %d senders read right, %d harmful", right, len(all), len(senders), harmful)
	if len(all) < 250 || len(senders) < 40 {
		t.Errorf("the corpus has %d messages of %d senders", len(all), len(senders))
	}
}

func (m letterBack) wrong(n Notice, credits []Credit) string {
	if n.Kind != wanted[m.kind] {
		return "kind is not " + string(wanted[m.kind])
	}
	if m.kind == "other" || m.kind == "foreign" || m.kind == "nobody" {
		if len(credits) > 0 {
			return "somebody is credited"
		}
		return ""
	}
	if len(credits) != 1 || credits[0].Address != m.to {
		return m.to + " is not credited, or not alone"
	}
	r := credits[0].Recipient
	switch {
	case m.reason.cause == "":
	case !strings.EqualFold(r.Final, m.final):
		return "final recipient is not " + m.final
	case r.Permanent != m.reason.permanently():
		return "permanent is not " + m.reason.permanent
	case m.reason.cause == "content" && r.Meaning.About != reply.Content, m.reason.cause != "content" && string(r.Meaning.Cause) != m.reason.cause:
		return "cause is not " + m.reason.cause
	}
	return ""
}
