package e2e

import (
	"bytes"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// mailbox writes messages as a mailbox file (RFC 4155).
func mailbox(answers []practice.Back) *bytes.Buffer {
	var b bytes.Buffer
	for _, a := range answers {
		b.WriteString("From MAILER-DAEMON Tue Mar 17 07:30:41 2026\n")
		for line := range strings.SplitSeq(string(a.Message), "\n") {
			if strings.HasPrefix(line, "From ") {
				b.WriteByte('>')
			}
			b.WriteString(line + "\n")
		}
		b.WriteByte('\n')
	}
	return &b
}

// posted are the letters of a mailing, as a sending tool sent them.
func posted(t *testing.T, api *client.Client, m contract.Mailing) (sent []practice.Posted) {
	t.Helper()
	cursor := ""
	for {
		p, err := api.MailingLetters(t.Context(), m.ID, "", cursor)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range p.Items {
			sent = append(sent, practice.Posted{To: l.Address, ID: fmt.Sprintf("spring.%d@fernhollow.example", l.Number), ReturnPath: "returns@fernhollow.example", At: m.SentAt})
		}
		if cursor = p.Next; cursor == "" {
			return sent
		}
	}
}

// truths returns the outcome that each letter must have once the watch is over.
func truths(answers []practice.Back) map[string]contract.Letter {
	want := map[string]contract.Letter{}
	for _, a := range answers {
		switch a.Means {
		case practice.BouncedForGood:
			want[a.To] = contract.Letter{Outcome: "bounced", Permanent: true}
		case practice.BouncedPassing:
			want[a.To] = contract.Letter{Outcome: "bounced"}
		case practice.StillTried:
			want[a.To] = contract.Letter{Outcome: "delayed"}
		case practice.ComplainedOf:
			want[a.To] = contract.Letter{Outcome: "complained"}
		}
	}
	return want
}

// TestMailing mails the kept and held rows of a run, takes in what comes back, with and
// without forwarders between, and lets the watch end: what bounced is told, catch-all
// addresses are settled, in this list and in runs from then on.
func TestMailing(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	clock := newCalendar(t)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	l, run := verified(t, api, i.World, 1500)
	m, err := api.RegisterMailing(ctx, contract.NewMailing{Name: "Spring letter", RunID: run.ID, Decisions: []string{"keep", "hold"}})
	if err != nil {
		t.Fatal(err)
	}
	watching := func() bool {
		if m, err = api.Mailing(ctx, m.ID); err != nil {
			t.Fatal(err)
		}
		return m.State == "watching"
	}
	eventually(t, 20*time.Second, func() (bool, string) { return watching(), m.State })
	answers := i.ComesBack(posted(t, api, m), true)
	taken, err := api.TakeBounces(ctx, mailbox(answers))
	if err != nil || taken.Messages != len(answers) || taken.Nobody != 0 {
		t.Fatalf("%v: %+v of %d", err, taken, len(answers))
	}
	again, err := api.TakeBounces(ctx, mailbox(answers))
	if err != nil || again.Known != len(answers) || again.Bounced != 0 {
		t.Errorf("sent again: %v, %+v", err, again)
	}
	want := truths(answers)
	clock.set(73 * time.Hour)
	eventually(t, 30*time.Second, func() (bool, string) { watching(); return m.State == "closed", m.State })
	checkLetters(t, api, m, want)
	checkDecidedAnew(t, api, run, want)

	t.Run("runs from now on", func(t *testing.T) {
		later, err := api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
		if err != nil {
			t.Fatal(err)
		}
		if later, err = api.Wait(ctx, later.ID, func(contract.Run) {}); err != nil {
			t.Fatal(err)
		}
		checkDecidedAnew(t, api, later, want)
	})
}

// checkLetters holds the outcome of every letter against the truth.
func checkLetters(t *testing.T, api *client.Client, m contract.Mailing, want map[string]contract.Letter) {
	t.Helper()
	cursor, bounced := "", 0
	for {
		p, err := api.MailingLetters(t.Context(), m.ID, "", cursor)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range p.Items {
			w, ok := want[l.Address]
			if !ok {
				w.Outcome = "no bounce"
			}
			if l.Outcome != w.Outcome || l.Permanent != w.Permanent {
				t.Errorf("%s is %s (for good: %v), and should be %s (%v): %s", l.Address, l.Outcome, l.Permanent, w.Outcome, w.Permanent, l.Words)
			}
			if l.Permanent {
				bounced++
			}
		}
		if cursor = p.Next; cursor == "" {
			break
		}
	}
	if bounced < 20 || int64(bounced) != m.Outcomes.Bounced {
		t.Errorf("%d letters bounced for good, and %+v", bounced, m.Outcomes)
	}
}

// checkDecidedAnew holds the results of a run against what came back: what bounced for good
// is undeliverable, who complained is dropped, and catch-all addresses that were mailed in
// silence are settled and kept.
func checkDecidedAnew(t *testing.T, api *client.Client, run contract.Run, want map[string]contract.Letter) {
	t.Helper()
	counts := map[string]int{}
	for _, r := range allResults(t, api, run.ID) {
		w := want[r.Mailbox]
		switch {
		case w.Permanent:
			counts["bounced"]++
			if r.Cause != finding.MailboxBounced || r.Decision != "drop" {
				t.Errorf("%s bounced for good and is %s, %s", r.Mailbox, r.Cause, r.Decision)
			}
		case r.Cause == finding.MailboxBounced:
			t.Errorf("%s did not bounce for good and is told so", r.Mailbox)
		case w.Outcome == "complained":
			counts["complained"]++
			if r.Decision != "drop" {
				t.Errorf("%s complained and is decided %s", r.Mailbox, r.Decision)
			}
		case r.Finding == finding.CatchAll && w.Outcome == "":
			counts["settled"]++
			if r.Cause != finding.MailboxSettled {
				t.Errorf("%s was mailed in silence and is %s", r.Mailbox, r.Cause)
			}
		case r.Cause == finding.MailboxSettled:
			t.Errorf("%s is settled though it was %s", r.Mailbox, w.Outcome)
		}
	}
	if counts["bounced"] < 20 || counts["complained"] < 2 || counts["settled"] < 20 {
		t.Errorf("too little was tried: %v", counts)
	}
	settled, err := api.AllResults(t.Context(), run.ID, url.Values{"cause": {string(finding.MailboxBounced)}})
	if err != nil || len(settled) == 0 {
		t.Fatalf("%v: %d", err, len(settled))
	}
	e, err := api.Evidence(t.Context(), run.ID, settled[0].Ordinal)
	if err != nil || len(e.Asked) != 1 || !strings.Contains(e.Asked[0].Why, "came back for good") || e.Asked[0].Reply == "" {
		t.Errorf("%v: %+v", err, e)
	}
}
