package report

import (
	"bytes"
	"fmt"
	"html"
	"math"
	"regexp"
	"strings"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
)

// every is a report in which every cause occurs with every finding it may go
// with, and names are as long as they may be.
func every() Report {
	r := Report{List: "Members <b>of</b> the Fernhollow Seed Library " + strings.Repeat("x", 80), File: "members.csv", Run: 12, Depth: "mailbox", Policy: "careful",
		Began: time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC), Ended: time.Date(2026, 3, 1, 9, 30, 0, 0, time.UTC), Made: time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC),
		Read: "1,200 rows with 1,100 different addresses.", Kept: "681 of 1,200 rows will be kept.", Says: policy.ReachFurther().Says(),
		Work: []string{"It took 30 minutes."}, Changes: []string{"No address has another finding than in run 3."}}
	for _, c := range finding.Causes() {
		for i, f := range c.Findings {
			r.Causes = append(r.Causes, Cause{f, c.Code, c.Stage, c.Title, c.Meaning, int64(10 + i)})
			r.Addresses += int64(10 + i)
		}
	}
	for _, ruling := range policy.ReachFurther().Rulings() {
		r.Decisions = append(r.Decisions, policy.Count{Decision: ruling.Decision, Reason: ruling.Reason, Rows: 7})
	}
	for i := range 6 {
		p := Place{fmt.Sprintf("a-rather-long-name-of-a-domain-number-%d.upperloam.example", i), 40, 20}
		r.Domains, r.Operators = append(r.Domains, p), append(r.Operators, p)
	}
	return r
}

func TestHTML(t *testing.T) {
	r := every()
	var b bytes.Buffer
	if err := r.HTML(&b); err != nil {
		t.Fatal(err)
	}
	page := html.UnescapeString(b.String())
	for _, c := range r.Causes {
		if !strings.Contains(page, c.Title) || !strings.Contains(page, c.Meaning) {
			t.Errorf("%s is not on the page in the registry's words", c.Title)
		}
	}
	for _, s := range append(append(append([]string{r.Kept, r.Read, r.Headline(), r.Foot()}, r.Says...), r.Work...), r.Changes...) {
		if !strings.Contains(page, s) {
			t.Errorf("%q is not on the page", s)
		}
	}
	if strings.Contains(b.String(), "<b>of</b>") {
		t.Error("the list's name became markup")
	}
	if outside := regexp.MustCompile(`(?i)(src|href|url\()\s*=?["']?http`).FindString(b.String()); outside != "" {
		t.Errorf("the page loads something: %s", outside)
	}
}

func TestPDF(t *testing.T) {
	for name, r := range map[string]Report{"all causes": every(), "nothing yet": {List: "Empty", Began: time.Now(), Made: time.Now()}} {
		var b bytes.Buffer
		if err := r.PDF(&b); err != nil {
			t.Fatal(err)
		}
		if n := len(regexp.MustCompile(`/Type /Page\b[^s]`).FindAll(b.Bytes(), -1)); n != 1 {
			t.Errorf("%s: %d pages", name, n)
		}
		if bytes.Contains(b.Bytes(), []byte("/Subtype /Image")) {
			t.Errorf("%s: there is a picture in it that is not vectors", name)
		}
		p := newPaper(scales[len(scales)-1])
		if r.draw(p); p.y > pageHeight-margin {
			t.Errorf("%s: it runs %.0f mm over the page", name, p.y-pageHeight+margin)
		}
	}
}

// TestFlow holds the thickness of the bands against the numbers, and that what
// flows in is what leaves and arrives.
func TestFlow(t *testing.T) {
	r := Report{Addresses: 1000, Open: 100, Causes: []Cause{
		{finding.Deliverable, "", finding.StageMailbox, "a", "", 500}, {finding.CatchAll, "", finding.StageMailbox, "b", "", 200},
		{finding.Undeliverable, "", finding.StageDomain, "c", "", 150}, {finding.Undecided, "", finding.StageRule, "d", "", 50}}}
	f := r.Flow()
	if len(f.Shapes) != 5 {
		t.Fatalf("%d bands", len(f.Shapes))
	}
	total := 0.0
	for _, s := range f.Shapes {
		last := s.Path[len(s.Path)-1].End // the lower left corner
		total += last.Y - s.Start.Y
	}
	if math.Abs(total-flowFull) > 0.01 {
		t.Errorf("the bands are %.1f of %.1f thick together", total, flowFull)
	}
	if got := f.Columns[2].Lines; len(got) != 2 || got[0].Text != "50 undecided" {
		t.Errorf("a rule counts at the exchanger: %+v", got)
	}
}
