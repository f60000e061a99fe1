package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"varnet/internal/practice"
	"varnet/internal/practice/shed"
)

func practiceCommand() command {
	return command{"practice", "", "runs the practice internet, or writes a list of its people", "varnet practice -list 1200 > members.csv", runPractice, []command{
		{"stir", "", "has people join and leave the contact platform of a running practice internet", "varnet practice stir -join 12 -leave 5", stirPlatform, nil},
		{"bounces", "FILE", "writes what comes back, as a mailbox file, after a letter to each address of a file, one a line; - is standard input", "varnet practice bounces sent.txt > returned.mbox", practiceBounces, nil},
	}}
}

func runPractice(c *cli) action {
	p := practised{}
	c.flags.StringVar(&p.world, "world", "fernhollow", "a world that ships with Varnet, or a world file")
	p.only.flags(c)
	p.at.flags(c)
	c.flags.IntVar(&p.people, "people", 600, "how many people its contact platform has")
	c.flags.StringVar(&p.returns, "returns", "", "where bounces of the letters are handed over, such as lmtp://127.0.0.1:8027, of which its mail hosts then send some; nowhere unless given")
	c.flags.DurationVar(&p.returnsAfter, "returns-after", 10*time.Second, "after how long they come, which stands for hours, and at most twice that")
	life := c.flags.Duration("for", 24*time.Hour, "how long to run at most")
	return func(ctx context.Context) error {
		w, err := practice.Load(p.world)
		if err != nil {
			return err
		}
		if write := p.only.writer(w); write != nil {
			out := bufio.NewWriter(c.out)
			if err := write(out); err != nil {
				return err
			}
			return out.Flush()
		}
		ctx, cancel := context.WithTimeout(ctx, *life)
		defer cancel()
		return c.practise(ctx, w, p)
	}
}

// practised is which practice internet runs, and where.
type practised struct {
	world        string
	only         onlyWritten
	at           listens
	people       int // of the contact platform
	returns      string
	returnsAfter time.Duration
}

// onlyWritten is what is written to standard output instead of running the practice internet.
type onlyWritten struct {
	list, guild                          int
	which                                uint64
	opinions, recipe, key, paymentSecret bool
}

func (o *onlyWritten) flags(c *cli) {
	c.flags.IntVar(&o.list, "list", 0, "write a list of N made-up people to standard output, and nothing else")
	c.flags.IntVar(&o.guild, "guilds", 0, "write a list of N people of guilds, whose domains have naming habits, to standard output, and nothing else")
	c.flags.BoolVar(&o.opinions, "opinions", false, "give the list of -list columns with what two other checks found, and with the day of the last order")
	c.flags.Uint64Var(&o.which, "which", 1, "which of such lists: another number gives other people")
	c.flags.BoolVar(&o.recipe, "recipe", false, "write the recipe of its contact platform to standard output, and nothing else")
	c.flags.BoolVar(&o.key, "dkim-key", false, "write the private key, whose DKIM record it publishes, to standard output, and nothing else")
	c.flags.BoolVar(&o.paymentSecret, "payment-secret", false, "write the secret of its payment provider to standard output, and nothing else")
}

// writer writes what was asked for of a world; nil: nothing was.
func (o onlyWritten) writer(w *practice.World) func(io.Writer) error {
	text := func(s string) func(io.Writer) error {
		return func(out io.Writer) error { _, err := io.WriteString(out, s); return err }
	}
	switch {
	case o.recipe:
		return text(shed.Recipe)
	case o.paymentSecret:
		return text(practice.PaymentSecret)
	case o.key:
		return text(practice.DKIMKey)
	case o.opinions && o.list > 0:
		return func(out io.Writer) error { return w.WriteOpinions(out, o.list) }
	case o.guild > 0:
		return func(out io.Writer) error { return w.WriteHabits(out, o.guild, o.which, nil) }
	case o.list > 0:
		return func(out io.Writer) error { return w.WriteList(out, o.list) }
	}
	return nil
}

// listens is where the parts of the practice internet listen, and the file with the secret of the
// webhook that is its receiver.
type listens struct {
	dns                                                                string
	port                                                               int
	letters, page, provider, receiver, platform, cashier, site, secret string
}

func (l *listens) flags(c *cli) {
	c.flags.StringVar(&l.dns, "dns", "127.0.0.1:2553", "where the name server listens")
	c.flags.IntVar(&l.port, "port", 2525, "the port of the mail hosts, each on its own loopback address")
	c.flags.StringVar(&l.letters, "letters", "127.0.0.1:2587", "where its letterbox takes letters")
	c.flags.StringVar(&l.page, "letterbox", "127.0.0.1:2588", "where its letterbox shows them, as a page")
	c.flags.StringVar(&l.provider, "provider", "127.0.0.1:2589", "where its sign-in provider listens")
	c.flags.StringVar(&l.receiver, "receiver", "127.0.0.1:2590", "where its receiver of webhooks listens")
	c.flags.StringVar(&l.platform, "platform", "127.0.0.1:2591", "where its contact platform listens")
	c.flags.StringVar(&l.cashier, "payments", "127.0.0.1:2592", "where its payment provider listens")
	c.flags.StringVar(&l.site, "site", "127.0.0.1:2593", "where its website with a sign-up form listens")
	c.flags.StringVar(&l.secret, "receiver-secret", "", "the file with the secret of the webhook that is the receiver")
}

// platformPace is how many requests a second the practice contact platform takes.
const platformPace = 10

// platformOf starts the contact platform of a world, with people in a group.
func platformOf(w *practice.World, listen string, people int) (*shed.Shed, error) {
	s, err := shed.Start(listen, platformPace)
	if err != nil {
		return nil, err
	}
	var list bytes.Buffer
	if err = w.WriteList(&list, people); err == nil {
		_, err = s.Fill("Newsletter", &list)
	}
	if err != nil {
		s.Close()
	}
	return s, err
}

// practise runs a world and all its stand-ins until ctx ends.
func (c *cli) practise(ctx context.Context, w *practice.World, p practised) error {
	at := p.at
	platform, err := platformOf(w, at.platform, p.people)
	if err != nil {
		return err
	}
	defer platform.Close()
	i, err := practice.Start(w, at.dns, at.port)
	if err != nil {
		return err
	}
	defer i.Close()
	if err := i.StartStandIns(); err != nil {
		return err
	}
	box, err := i.StartLetterbox(at.letters, at.page, "", "")
	if err != nil {
		return err
	}
	if p.returns != "" {
		if err := box.PassOn(w, p.returns, p.returnsAfter, true); err != nil {
			return err
		}
	}
	signIn, err := i.StartProvider(at.provider, "varnet", "practice")
	if err != nil {
		return err
	}
	told, err := i.StartReceiver(at.receiver)
	if err != nil {
		return err
	}
	told.KnowsFrom(at.secret)
	payments, err := practice.StartCashier(at.cashier, practice.PaymentSecret)
	if err != nil {
		return err
	}
	defer payments.Close()
	website, err := practice.StartSite(at.site)
	if err != nil {
		return err
	}
	defer website.Close()
	fmt.Fprintf(c.out, "The practice internet %q runs: name server at %s, %d mail hosts on port %d.\n"+
		"Its letterbox takes letters at %s and shows them at %s.\n"+
		"Its sign-in provider is %s, for the client %q with the secret %q.\n"+
		"Its receiver of webhooks is %s.\n"+
		"Its contact platform is %s, with the key %q.\n"+
		"Its payment provider is %s, with the secret %q.\n"+
		"Its website with a sign-up form is %s.\n"+
		"A service for it: varnet serve -resolvers %s -smtp-port %d -allow-private yes\n",
		w.Name, i.DNS, len(i.Hosts()), i.Port, box.SMTP, box.Page, signIn.Issuer, signIn.Client, signIn.Secret, told.URL, platform.URL, platform.Key, payments.URL, payments.Secret, website.URL, i.DNS, i.Port)
	<-ctx.Done()
	return nil
}

func stirPlatform(c *cli) action {
	at := c.flags.String("platform", "127.0.0.1:2591", "where the contact platform listens")
	group := c.flags.String("group", "1", "the group that they join and leave")
	join := c.flags.Int("join", 12, "how many join")
	leave := c.flags.Int("leave", 5, "how many leave")
	seed := c.flags.Uint64("seed", 1, "chooses who joins: others for another number")
	return func(ctx context.Context) error {
		w, err := practice.Load("fernhollow")
		if err != nil {
			return err
		}
		w.Seed += *seed
		var list bytes.Buffer
		if err := w.WriteList(&list, *join); err != nil {
			return err
		}
		people, err := shed.People(&list)
		if err == nil {
			err = shed.Stir(ctx, "http://"+*at+"/v1", shed.Key, *group, people, *leave)
		}
		if err != nil {
			return err
		}
		return c.sentence(fmt.Sprintf("%d people joined the group %s, and %d left.", *join, *group, *leave))
	}
}

func practiceBounces(c *cli) action {
	var at timeFlag
	c.flags.Var(&at, "sent", "when the letters were sent, as `TIME`; now unless given")
	return func(context.Context) error {
		w, err := practice.Load("fernhollow")
		if err != nil {
			return err
		}
		file, err := c.open(c.args[0])
		if err != nil {
			return err
		}
		defer file.Close()
		if at.IsZero() {
			at.Time = time.Now()
		}
		var sent []practice.Posted
		lines := bufio.NewScanner(file)
		for lines.Scan() {
			if to := strings.TrimSpace(lines.Text()); strings.Contains(to, "@") {
				sent = append(sent, practice.Posted{To: to, ID: fmt.Sprintf("spring.%d@fernhollow.example", len(sent)+1), ReturnPath: "returns@fernhollow.example", At: at.Time})
			}
		}
		if err := lines.Err(); err != nil {
			return err
		}
		out := bufio.NewWriter(c.out)
		if err := practice.WriteMailbox(out, w.ComesBack(sent, true)); err != nil {
			return err
		}
		return out.Flush()
	}
}
