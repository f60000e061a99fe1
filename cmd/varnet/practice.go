package main

import (
	"bufio"
	"context"
	"fmt"
	"time"

	"varnet/internal/practice"
)

func practiceCommand() command {
	return command{"practice", "", "runs the practice internet, or writes a list of its people", "varnet practice -list 1200 > members.csv", runPractice, nil}
}

func runPractice(c *cli) action {
	world := c.flags.String("world", "fernhollow", "a world that ships with Varnet, or a world file")
	list := c.flags.Int("list", 0, "write a list of so many made-up people to standard output, and nothing else")
	dns := c.flags.String("dns", "127.0.0.1:2553", "where the name server listens")
	port := c.flags.Int("port", 2525, "the port of the mail hosts, each on its own loopback address")
	letters := c.flags.String("letters", "127.0.0.1:2587", "where its letterbox takes letters")
	page := c.flags.String("letterbox", "127.0.0.1:2588", "where its letterbox shows them, as a page")
	provider := c.flags.String("provider", "127.0.0.1:2589", "where its sign-in provider listens")
	receiver := c.flags.String("receiver", "127.0.0.1:2590", "where its receiver of webhooks listens")
	secret := c.flags.String("receiver-secret", "", "the file with the secret of the webhook that is the receiver")
	life := c.flags.Duration("for", 24*time.Hour, "how long to run at the most")
	return func(ctx context.Context) error {
		w, err := practice.Load(*world)
		if err != nil {
			return err
		}
		if *list > 0 {
			out := bufio.NewWriter(c.out)
			if err := w.WriteList(out, *list); err != nil {
				return err
			}
			return out.Flush()
		}
		ctx, cancel := context.WithTimeout(ctx, *life)
		defer cancel()
		return c.practise(ctx, w, *dns, *port, *letters, *page, *provider, *receiver, *secret)
	}
}

// practise runs a world until ctx ends.
func (c *cli) practise(ctx context.Context, w *practice.World, dns string, port int, letters, page, provider, receiver, secret string) error {
	i, err := practice.Start(w, dns, port)
	if err != nil {
		return err
	}
	defer i.Close()
	if err := i.StartStandIns(); err != nil {
		return err
	}
	box, err := i.StartLetterbox(letters, page, "", "")
	if err != nil {
		return err
	}
	signIn, err := i.StartProvider(provider, "varnet", "practice")
	if err != nil {
		return err
	}
	told, err := i.StartReceiver(receiver)
	if err != nil {
		return err
	}
	told.KnowsFrom(secret)
	fmt.Fprintf(c.out, "The practice internet %q runs: name server at %s, %d mail hosts on port %d.\n"+
		"Its letterbox takes letters at %s and shows them at %s.\n"+
		"Its sign-in provider is %s, for the client %q with the secret %q.\n"+
		"Its receiver of webhooks is %s.\n"+
		"A service for it: varnet serve -resolvers %s -smtp-port %d -allow-private yes\n",
		w.Name, i.DNS, len(i.Hosts()), i.Port, box.SMTP, box.Page, signIn.Issuer, signIn.Client, signIn.Secret, told.URL, i.DNS, i.Port)
	<-ctx.Done()
	return nil
}
