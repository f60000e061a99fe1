package rights

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// Says says what was done about a request, or what it waits for.
func Says(r store.Request) string {
	switch {
	case r.Says != "":
		return r.Says
	case r.Kind == store.RequestFile:
		return "All that was held about the address was written as a file."
	case r.Kind == store.RequestAllow:
		return "The address may be kept and asked about again."
	}
	return "The address is being erased."
}

// ForPerson is what is held without what is of other people.
func ForPerson(h contract.Held) contract.Held {
	lists := slices.Clone(h.Lists)
	for i := range lists {
		lists[i].Rows = slices.Clone(lists[i].Rows)
		for j := range lists[i].Rows {
			if r := &lists[i].Rows[j]; !r.Own {
				r.Cells = []contract.HeldCell{}
			}
		}
	}
	h.Lists = lists
	return h
}

// Text writes what is held about an address as a plain text that its person can read.
func Text(h contract.Held) string {
	var b strings.Builder
	line := func(depth int, format string, args ...any) {
		b.WriteString(strings.Repeat("  ", depth))
		b.WriteString(say.Line(fmt.Sprintf(format, args...)) + "\n")
	}
	line(0, "What %s holds about %s", h.Workspace, h.Address)
	line(0, "As of %s.", moment(h.At))
	line(0, "")
	line(0, "%s", h.Says)
	for _, l := range h.Lists {
		line(0, "")
		line(0, "List “%s”, imported on %s%s", l.Name, day(l.At), from(l.FileName))
		rows(line, l)
		for _, r := range l.Results {
			line(1, "Verified on %s: %s. %s. %s", day(r.At), r.Finding, r.Title, r.Meaning)
			for _, q := range r.Said {
				line(2, "%s: %s", moment(q.At), q.Reply)
			}
		}
		if l.Override != "" {
			line(1, "Somebody decided for this list to %s the address, whatever was found.", l.Override)
		}
	}
	letters(line, h)
	for i, e := range h.Elsewhere {
		if i == 0 {
			line(0, "")
			line(0, "The address is named in other records, too:")
		}
		line(1, "%s: %s", e.Place, say.Number(e.Records))
	}
	return b.String()
}

func rows(line func(int, string, ...any), l contract.HeldList) {
	for _, r := range l.Rows {
		whose := "your row"
		if !r.Own {
			whose = "the row of somebody else, in which your address is named"
		}
		line(1, "Line %d (%s):", r.Line, whose)
		for _, c := range r.Cells {
			if c.Text != "" {
				line(2, "%s: %s", c.Column, c.Text)
			}
		}
	}
	if more := l.RowsAll - len(l.Rows); more > 0 {
		line(1, "and %s", say.Plural(int64(more), "more row", "more rows"))
	}
}

// letters tells what was sent to the address, and what is remembered of that.
func letters(line func(int, string, ...any), h contract.Held) {
	if len(h.Letters) > 0 || h.Outcome != nil || h.Absent != nil || h.Activity != nil {
		line(0, "")
		line(0, "Messages")
	}
	for _, m := range h.Letters {
		outcome := m.Outcome
		if outcome == "" {
			outcome = "nothing came back"
		}
		line(1, "“%s”, sent on %s: %s%s", m.Mailing, day(m.SentAt), outcome, words(m.Words))
	}
	if o := h.Outcome; o != nil {
		line(1, "Remembered of messages: %s, on %s%s", o.Outcome, day(o.At), words(o.Words))
	}
	if h.Absent != nil {
		line(1, "The mailbox was found absent on %s.", day(*h.Absent))
	}
	if s := h.Activity; s != nil {
		line(1, "Last active on %s: %s (from %s)", day(s.At), s.Kind, s.Source)
	}
}

func day(t time.Time) string    { return t.UTC().Format("2 January 2006") }
func moment(t time.Time) string { return t.UTC().Format("2 January 2006, 15:04 UTC") }

func from(file string) string {
	if file == "" {
		return ""
	}
	return " from the file " + file
}

func words(said string) string {
	if said == "" {
		return ""
	}
	return ". It said: " + said
}
