package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"text/tabwriter"
	"time"

	"github.com/emersion/go-smtp"

	"varnet/core/finding"
	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

const (
	bouncesPort   = 2714
	hoursStandFor = time.Second // after which practice hosts send notices, and at most twice that
	forgedMail    = 100_000     // bounces, in at most forgedWithin
	forgedWithin  = time.Minute
	forgers       = 8
	forgedSession = 900 // recipients in a session; beyond 1,000 it is ended
)

// bounces mails a list of which a third is at catch-all hosts, lets the hosts send by
// themselves what comes back, and holds every outcome against the truth; then it forges.
func bounces() error {
	var bars []bar
	for _, forwarders := range []bool{false, true} {
		more, err := mailThird(forwarders)
		if err != nil {
			return err
		}
		bars = append(bars, more...)
	}
	return judge(bars)
}

// mailing is letters of the bench and where they go by.
type benchMailing struct {
	in    *installation
	api   *client.Client
	box   *practice.Letterbox
	door  string
	clock string
	run   contract.Run
	m     contract.Mailing
}

// mailThird mails the kept and held rows once, with or without forwarders between.
func mailThird(forwarders bool) ([]bar, error) {
	w, err := practice.Load("fernhollow")
	if err != nil {
		return nil, err
	}
	w.CatchAll(1.0 / 3)
	folder, err := os.MkdirTemp("", "varnet-bench")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	b := benchMailing{clock: filepath.Join(folder, "clock"), door: "127.0.0.1:2799"}
	if err := os.WriteFile(b.clock, []byte("0s"), 0o600); err != nil {
		return nil, err
	}
	b.in, err = install(w, bouncesPort, practising, "VARNET_PATIENCE=3s", "VARNET_CLOCK="+b.clock, "VARNET_RETURNS=lmtp://"+b.door, "VARNET_RETURNS_DOMAIN=returns.fernhollow.example")
	if err != nil {
		return nil, err
	}
	defer b.in.stop()
	b.api = client.New(b.in.url, b.in.key)
	if b.run, _, err = b.in.clean(people); err != nil {
		return nil, err
	}
	if b.box, err = b.in.net.StartLetterbox("127.0.0.1:0", "127.0.0.1:0", "", ""); err == nil {
		err = b.box.PassOn(w, "lmtp://"+b.door, hoursStandFor, forwarders)
	}
	if err != nil {
		return nil, err
	}
	took, err := b.mail()
	if err != nil {
		return nil, err
	}
	bars, err := b.judge(w, forwarders, took)
	if err != nil || !forwarders {
		return bars, err
	}
	more, err := b.forge()
	return append(bars, more...), err
}

// mail registers the mailing and hands its letters to the letterbox, each with its return
// address; it waits until nothing more comes back, and lets the watch end.
func (b *benchMailing) mail() (took time.Duration, err error) {
	ctx := context.Background()
	if b.m, err = b.api.RegisterMailing(ctx, contract.NewMailing{Name: "Spring letter", RunID: b.run.ID, Decisions: []string{"keep", "hold"}}); err != nil {
		return 0, err
	}
	if err := b.until("watching"); err != nil {
		return 0, err
	}
	start := time.Now()
	for cursor := ""; ; {
		p, err := b.api.MailingLetters(ctx, b.m.ID, "", cursor)
		if err != nil {
			return 0, err
		}
		if err := handAll(b.box.SMTP, p.Items); err != nil {
			return 0, err
		}
		if cursor = p.Next; cursor == "" {
			break
		}
	}
	want := len(b.in.net.World.ComesBack(b.box.Passed(), false))
	for end := time.Now().Add(2 * time.Minute); ; time.Sleep(time.Second) {
		n, err := b.returned()
		if err != nil {
			return 0, err
		}
		if n >= want {
			break
		}
		if time.Now().After(end) {
			return 0, fmt.Errorf("%d of %d messages came back", n, want)
		}
	}
	took = time.Since(start)
	if err := os.WriteFile(b.clock, []byte("73h"), 0o600); err != nil {
		return 0, err
	}
	return took, b.until("closed")
}

// returned is how many messages came back, by what became of letters, and answers of people.
func (b *benchMailing) returned() (n int, err error) {
	for cursor := ""; ; {
		p, err := b.api.Bounces(context.Background(), cursor)
		if err != nil {
			return 0, err
		}
		n += len(p.Items)
		if cursor = p.Next; cursor == "" {
			return n, nil
		}
	}
}

func (b *benchMailing) until(state string) (err error) {
	for range 600 {
		if b.m, err = b.api.Mailing(context.Background(), b.m.ID); err != nil || b.m.State == state {
			return err
		}
		time.Sleep(200 * time.Millisecond)
	}
	return fmt.Errorf("the mailing is %s and not %s: %s", b.m.State, state, b.m.Says)
}

// handAll hands letters to a submission server in one session.
func handAll(server string, letters []contract.Letter) error {
	c, err := smtp.Dial(server)
	if err != nil {
		return err
	}
	defer c.Close()
	for _, l := range letters {
		text := fmt.Sprintf("From: Fernhollow Seed Library <letters@fernhollow.example>\r\nTo: %s\r\nSubject: Seeds of the season\r\nMessage-ID: <spring.%d@fernhollow.example>\r\n\r\nThe broad beans are in.\r\n", l.Address, l.Number)
		if err := c.SendMail(l.Return, []string{l.Address}, strings.NewReader(text)); err != nil {
			return fmt.Errorf("%s: %w", l.Address, err)
		}
	}
	return c.Quit()
}

// judge holds the outcome of every letter, and the result of every catch-all address, against
// the truth.
func (b *benchMailing) judge(w *practice.World, forwarders bool, took time.Duration) ([]bar, error) {
	want := map[string]practice.Means{}
	back := w.ComesBack(b.box.Passed(), forwarders)
	for _, a := range back {
		if a.Means != practice.Answered {
			want[a.To] = a.Means
		}
	}
	results, err := b.in.all(b.run.ID)
	if err != nil {
		return nil, err
	}
	mailed := map[string]bool{}
	for _, p := range b.box.Passed() {
		mailed[p.To] = true
	}
	var catchAll, gone, told, wrongly, settled, wrongSettled int
	for _, r := range results {
		t := truthOf(w, r)
		if !mailed[r.Mailbox] || !t.AnyAccepted {
			continue
		}
		catchAll++
		bounced := want[r.Mailbox] == practice.BouncedForGood
		if bounced {
			gone++
		}
		switch {
		case r.Cause == finding.MailboxBounced && bounced:
			told++
		case r.Cause == finding.MailboxBounced:
			wrongly++
		case r.Cause == finding.MailboxSettled && want[r.Mailbox] == "":
			settled++
		case r.Cause == finding.MailboxSettled:
			wrongSettled++
		}
	}
	between := "without forwarders"
	if forwarders {
		between = "with forwarders"
	}
	fmt.Printf("%s: %s, %s of catch-all domains; %d messages came back by themselves within %v of the first letter.\n%s\n\n", between,
		say.Plural(b.m.Letters, "letter", "letters"), say.Number(int64(catchAll)), len(back), took.Round(time.Second), b.m.Says)
	if gone == 0 || settled == 0 {
		return nil, errors.New("nothing was tried")
	}
	return []bar{
		{"share of the " + say.Number(int64(gone)) + " catch-all addresses that bounced which are told so, " + between, 100 * float64(told) / float64(gone), 100, false, "%"},
		{"catch-all addresses told as bounced that did not, " + between, float64(wrongly), 0, true, ""},
		{"of " + say.Number(int64(settled)) + " settled, those of which something came back, " + between, float64(wrongSettled), 0, true, ""},
	}, nil
}

// forge forges bounces: at the door with wrong tags, while real ones come as before; and as a
// file. Nothing may change.
func (b *benchMailing) forge() ([]bar, error) {
	before, err := b.api.Mailing(context.Background(), b.m.ID)
	if err != nil {
		return nil, err
	}
	letters, err := b.api.MailingLetters(context.Background(), b.m.ID, "open", "")
	if err == nil && len(letters.Items) == 0 {
		letters, err = b.api.MailingLetters(context.Background(), b.m.ID, "no bounce", "")
	}
	if err != nil || len(letters.Items) == 0 {
		return nil, fmt.Errorf("no letter to hand answers over for: %w", err)
	}
	calm := b.answers(letters.Items[0], 5*time.Second, nil)
	stop := make(chan struct{})
	var refused atomic.Int64
	start := time.Now()
	go func() { forgeAll(b.door, &refused); close(stop) }()
	busy := b.answers(letters.Items[1], 10*forgedWithin, stop)
	took := time.Since(start)
	memory, err := peakMB(b.in.pid)
	if err != nil {
		return nil, err
	}
	fileTook, said, err := b.forgedFile()
	if err != nil {
		return nil, err
	}
	after, err := b.api.Mailing(context.Background(), b.m.ID)
	if err != nil {
		return nil, err
	}
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "%s forged bounces\ttook\tp95 of a real one handed over\t\n", say.Number(forgedMail))
	fmt.Fprintf(t, "before\t\t%v\t\n", short(p95Of(calm)))
	fmt.Fprintf(t, "at the door, %s refused\t%v\t%v\t\n", say.Number(refused.Load()), took.Round(time.Second), short(p95Of(busy)))
	fmt.Fprintf(t, "as a file: %s\t%v\t\t\n", said, fileTook.Round(time.Second))
	if err := t.Flush(); err != nil {
		return nil, err
	}
	fmt.Printf("\nMemory of the service at most %.0f MB.\n\n", memory)
	changed := 0.0
	if after.Outcomes != before.Outcomes {
		changed = 1
	}
	return []bar{
		{"forged bounces that changed the outcomes of the mailing", changed, 0, true, ""},
		{"seconds for " + say.Number(forgedMail) + " forged at the door", took.Seconds(), forgedWithin.Seconds(), true, "s"},
		{"of them refused", float64(refused.Load()), forgedMail, false, ""},
		{"memory of the service", memory, 300, true, "MB"},
	}, nil
}

// p95Of is what 95 in 100 of some times do not exceed; 0 where there are none.
func p95Of(d []time.Duration) time.Duration {
	if len(d) == 0 {
		return 0
	}
	slices.Sort(d)
	return d[len(d)*95/100]
}

// answers hands absence notes to the return address of a letter, one after the other, until
// stop or for so long, and returns what each took.
func (b *benchMailing) answers(l contract.Letter, most time.Duration, stop chan struct{}) (took []time.Duration) {
	end := time.After(most)
	for n := 0; ; n++ {
		select {
		case <-stop:
			return took
		case <-end:
			return took
		case <-time.After(200 * time.Millisecond):
		}
		start := time.Now()
		note := fmt.Sprintf("From: %s\r\nSubject: Out of office\r\nAuto-Submitted: auto-replied\r\nMessage-ID: <away.%d.%d@x>\r\n\r\nI am away.\r\n", l.Address, l.Number, n)
		if err := handed(b.door, []byte(note), l.Return); err == nil {
			took = append(took, time.Since(start))
		}
	}
}

func handed(door string, message []byte, to string) error {
	conn, err := net.Dial("tcp", door)
	if err != nil {
		return err
	}
	c := smtp.NewClientLMTP(conn)
	defer c.Close()
	return c.SendMail("", []string{to}, bytes.NewReader(message))
}

// forgeAll asks for return addresses with made-up tags, by several sessions at once.
func forgeAll(door string, refused *atomic.Int64) {
	var wg sync.WaitGroup
	var next atomic.Int64
	for range forgers {
		wg.Go(func() {
			for next.Load() < forgedMail {
				conn, err := net.Dial("tcp", door)
				if err != nil {
					return
				}
				c := smtp.NewClientLMTP(conn)
				if c.Hello("forger.invalid") != nil || c.Mail("", nil) != nil {
					_ = c.Close()
					continue
				}
				for range forgedSession {
					n := next.Add(1)
					if n > forgedMail {
						break
					}
					if err := c.Rcpt(fmt.Sprintf("b+1-%x-aaaaaaaaaaaaaaaa@returns.fernhollow.example", n), nil); err != nil {
						refused.Add(1)
					}
				}
				_ = c.Quit()
			}
		})
	}
	wg.Wait()
}

// forgedFile imports a mailbox file of forged bounces.
func (b *benchMailing) forgedFile() (took time.Duration, says string, err error) {
	var file bytes.Buffer
	for n := range forgedMail {
		fmt.Fprintf(&file, "From MAILER-DAEMON Tue Mar 17 07:30:00 2026\nFrom: MAILER-DAEMON@forger.invalid\nTo: b+1-%x-aaaaaaaaaaaaaaaa@returns.fernhollow.example\nSubject: Undelivered Mail Returned to Sender\nMessage-ID: <forged.%d@forger.invalid>\n\n<person%d@postbarn.example>: 550 5.1.1 User unknown\n\n", n+1, n, n)
	}
	start := time.Now()
	t, err := b.api.ImportBounces(context.Background(), &file)
	return time.Since(start), t.Says, err
}
