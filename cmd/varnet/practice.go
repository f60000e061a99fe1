package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
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
	world := c.flags.String("world", "fernhollow", "a world that ships with Varnet, or a world file")
	list := c.flags.Int("list", 0, "write a list of so many made-up people to standard output, and nothing else")
	guild := c.flags.Int("guilds", 0, "write a list of so many people of guilds, whose domains have naming habits, to standard output, and nothing else")
	opinions := c.flags.Bool("opinions", false, "give the list of -list columns with what two other checks found, and with the day of the last order")
	which := c.flags.Uint64("which", 1, "which of such lists: another number gives other people")
	recipe := c.flags.Bool("recipe", false, "write the recipe of its contact platform to standard output, and nothing else")
	var at listens
	c.flags.StringVar(&at.dns, "dns", "127.0.0.1:2553", "where the name server listens")
	c.flags.IntVar(&at.port, "port", 2525, "the port of the mail hosts, each on its own loopback address")
	c.flags.StringVar(&at.letters, "letters", "127.0.0.1:2587", "where its letterbox takes letters")
	c.flags.StringVar(&at.page, "letterbox", "127.0.0.1:2588", "where its letterbox shows them, as a page")
	key := c.flags.Bool("dkim-key", false, "write the private key, whose DKIM record it publishes, to standard output, and nothing else")
	paymentSecret := c.flags.Bool("payment-secret", false, "write the secret of its payment provider to standard output, and nothing else")
	var passOn passOn
	c.flags.StringVar(&passOn.returns, "returns", "", "where bounces of the letters are handed over, such as lmtp://127.0.0.1:8027, of which its mail hosts then send some; nowhere unless given")
	c.flags.DurationVar(&passOn.after, "returns-after", 10*time.Second, "after how long they come, which stands for hours, and at most twice that")
	c.flags.StringVar(&at.provider, "provider", "127.0.0.1:2589", "where its sign-in provider listens")
	c.flags.StringVar(&at.receiver, "receiver", "127.0.0.1:2590", "where its receiver of webhooks listens")
	platform := c.flags.String("platform", "127.0.0.1:2591", "where its contact platform listens")
	people := c.flags.Int("people", 600, "how many people its contact platform has")
	c.flags.StringVar(&at.cashier, "payments", "127.0.0.1:2592", "where its payment provider listens")
	c.flags.StringVar(&at.site, "site", "127.0.0.1:2593", "where its website with a sign-up form listens")
	c.flags.StringVar(&at.secret, "receiver-secret", "", "the file with the secret of the webhook that is the receiver")
	life := c.flags.Duration("for", 24*time.Hour, "how long to run at most")
	return func(ctx context.Context) error {
		w, err := practice.Load(*world)
		if err != nil {
			return err
		}
		if *recipe {
			_, err := c.out.Write([]byte(shed.Recipe))
			return err
		}
		if *paymentSecret {
			_, err := fmt.Fprint(c.out, practice.PaymentSecret)
			return err
		}
		if *key {
			_, err := c.out.Write([]byte(practice.DKIMKey))
			return err
		}
		if *list > 0 || *guild > 0 {
			out := bufio.NewWriter(c.out)
			write := func() error { return w.WriteList(out, *list) }
			switch {
			case *opinions:
				write = func() error { return w.WriteOpinions(out, *list) }
			case *guild > 0:
				write = func() error { return w.WriteHabits(out, *guild, *which, nil) }
			}
			if err := write(); err != nil {
				return err
			}
			return out.Flush()
		}
		ctx, cancel := context.WithTimeout(ctx, *life)
		defer cancel()
		shed, err := platformOf(w, *platform, *people)
		if err != nil {
			return err
		}
		defer shed.Close()
		return c.practise(ctx, w, at, shed, passOn)
	}
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

// passOn is where bounces of letters are handed over, and after how long.
type passOn struct {
	returns string
	after   time.Duration
}

// practise runs a world until ctx ends.
// listens is where the parts of the practice internet listen, and the file with the secret of the
// webhook that is its receiver.
type listens struct {
	dns                                                      string
	port                                                     int
	letters, page, provider, receiver, cashier, site, secret string
}

func (c *cli) practise(ctx context.Context, w *practice.World, at listens, platform *shed.Shed, passOn passOn) error {
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
	if passOn.returns != "" {
		if err := box.PassOn(w, passOn.returns, passOn.after, true); err != nil {
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
