package bounce

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"varnet/core/say"
)

// mailing is what a test knows to have been sent.
type mailing struct {
	byAddress, byTag, byID map[string]string
}

func readMailing(t *testing.T, path string) mailing {
	t.Helper()
	m := mailing{map[string]string{}, map[string]string{}, map[string]string{}}
	for _, row := range table(t, path) {
		m.byAddress[strings.ToLower(row[0])], m.byTag[row[1]], m.byID[strings.Trim(row[2], "<>")] = row[0], row[0], row[0]
	}
	return m
}

func (m mailing) Has(a string) (string, bool) {
	to, ok := m.byAddress[strings.ToLower(a)]
	return to, ok
}

func (m mailing) Message(id string) []string {
	if to, ok := m.byID[id]; ok {
		return []string{to}
	}
	return nil
}

// Knows: every letter of it has its Message-ID.
func (m mailing) Knows(string) bool { return true }

func (m mailing) Returns(a string) (string, bool) {
	_, rest, _ := strings.Cut(a, "+")
	tag, _, _ := strings.Cut(strings.ReplaceAll(rest, "@", "="), "=")
	to, ok := m.byTag[tag]
	return to, ok
}

// table reads a file of columns with a heading.
func table(t testing.TB, path string) (rows [][]string) {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(strings.TrimRight(string(raw), "\n"), "\n")[1:] {
		rows = append(rows, strings.Split(line, "\t"))
	}
	return rows
}

// kinds are the kinds of the field's truth in our words, and whether an address bounced.
var kinds = map[string]Kind{
	"bounce-permanent": Bounce, "bounce-transient-final": Bounce, "delay-warning": Delay, "success-dsn": Delivery, "relayed-dsn": Delivery,
	"expanded-dsn": Delivery, "complaint-arf": Complaint, "out-of-office": AutoReply, "auto-reply": AutoReply, "challenge": Challenge, "not-a-bounce": Other,
}

// TestField holds what is read of messages from the field against what a careful reader
// credits.
func TestField(t *testing.T) {
	sent := readMailing(t, "testdata/field/mailed.tsv")
	truth := map[string][][]string{}
	for _, row := range table(t, "testdata/field/truth.tsv") {
		truth[row[0]] = append(truth[row[0]], row)
	}
	for file, rows := range truth {
		raw, err := os.ReadFile(filepath.Join("testdata/field/msgs", file))
		if err != nil {
			t.Fatal(err)
		}
		n := Read(raw)
		credits := Whom(n, sent)
		for _, problem := range wrong(n, credits, rows) {
			t.Errorf("%s (%s): %s\n\tread as %s", file, rows[0][7], problem, show(n, credits))
		}
	}
}

func show(n Notice, credits []Credit) string {
	var b strings.Builder
	b.WriteString(string(n.Kind))
	for _, c := range credits {
		r := c.Recipient
		b.WriteString("\n\t" + c.Address + " (" + string(c.How) + ") final " + r.Final + " " + string(r.Action) + " " + string(r.Meaning.About) + " " + string(r.Meaning.Cause) + " status " + r.Status + ": " + strings.ReplaceAll(say.Clip(r.Words, 200), "\n", "⏎") + " — " + r.Meaning.Why)
		if r.Permanent {
			b.WriteString(" PERMANENT")
		}
	}
	return b.String()
}

// wrong lists what differs from the truth: file, kind, recipient, final recipient, about,
// causes, permanent.
func wrong(n Notice, credits []Credit, rows [][]string) (problems []string) {
	want, known := kinds[rows[0][1]]
	if known && n.Kind != want {
		problems = append(problems, "kind is not "+string(want))
	}
	credited := 0
	for _, row := range rows {
		if row[2] == "" {
			continue
		}
		i := slices.IndexFunc(credits, func(c Credit) bool { return strings.EqualFold(c.Address, row[2]) })
		if i < 0 {
			problems = append(problems, row[2]+" is not credited")
			continue
		}
		credited++
		problems = append(problems, wrongRecipient(credits[i].Recipient, row)...)
	}
	if len(credits) > credited {
		problems = append(problems, "somebody is credited who should not be")
	}
	return problems
}

func wrongRecipient(r Recipient, row []string) (problems []string) {
	if row[3] != "" && !strings.EqualFold(r.Final, row[3]) {
		problems = append(problems, "final recipient is not "+row[3])
	}
	if row[4] == "" {
		return problems
	}
	if row[6] != "unclear" && r.Permanent != (row[6] == "yes") {
		problems = append(problems, "permanent is not "+row[6])
	}
	causes := strings.Split(row[5], "|")
	if !slices.Contains(causes, string(r.Meaning.Cause)) && !slices.Contains(causes, string(r.Meaning.About)) && !slices.Contains(causes, "none") {
		problems = append(problems, "cause is none of "+row[5])
	}
	return problems
}
