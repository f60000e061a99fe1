package main

import (
	"context"
	"fmt"
	"strings"

	"varnet/internal/client"
	"varnet/internal/contract"
)

func trialsCommand() command {
	return command{"trials", "", "shows by whom and how trial letters are sent, by which catch-all addresses are settled", "varnet trials", showTrials, []command{
		{"set", "-host HOST -sender SENDER -servers ADDRESSES", "sets the sender up; password and key are read from files, so that they are in no history",
			"varnet trials set -host smtp.fernhollow.example -username letters -password-file password.txt -sender \"Fernhollow Seed Library <letters@fernhollow.example>\" -servers 192.0.2.25 -selector varnet", setTrials, nil},
		{"test", "", "tests whether hosts can tell that letters come from the sender", "varnet trials test", testTrials, nil},
		{"forecast", "RUN", "shows what settling the catch-all addresses of a run by trial letters will take; a person orders them in the console", "varnet trials forecast 12", forecastTrials, nil},
		{"stop", "MAILING", "stops sending the trial letters of a mailing", "varnet trials stop 3", stopTrials, nil},
	}}
}

func (c *cli) tellTrials(s contract.TrialSender) error {
	if err := c.sentence(s.Says); err != nil || s.Host == "" {
		return err
	}
	if err := c.sentence(fmt.Sprintf("Sent by %s:%d, from %s, at most %d a day.", s.Host, s.Port, printable(s.Sender), s.Daily)); err != nil {
		return err
	}
	if s.Record != "" {
		if err := c.sentence(fmt.Sprintf("Signed by the key at %s, whose TXT record is to be:\n%s", s.RecordName, s.Record)); err != nil {
			return err
		}
	}
	for _, check := range s.Checks {
		if err := c.sentence(strings.TrimSpace(fmt.Sprintf("%s: %s %s", check.Grade, check.Says, check.Do))); err != nil {
			return err
		}
	}
	return nil
}

func showTrials(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.TrialSender, error) {
		return api.TrialSender(ctx)
	}, c.tellTrials)
}

func testTrials(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.TrialSender, error) {
		return api.TestTrialSender(ctx)
	}, c.tellTrials)
}

func setTrials(c *cli) action {
	var n contract.NewTrialSender
	c.flags.StringVar(&n.Host, "host", "", "the submission server's name or address")
	c.flags.IntVar(&n.Port, "port", 587, "its port: usually 587 with STARTTLS, 465 with TLS")
	c.flags.StringVar(&n.Security, "security", "starttls", "starttls, tls, or none for a server on this machine")
	c.flags.StringVar(&n.Username, "username", "", "the name to sign in with; none unless given")
	c.flags.StringVar(&n.Sender, "sender", "", "name and address of the sender")
	c.flags.StringVar(&n.Returns, "returns", "", "the mailbox that bounces come to; unless given, they come to return addresses of Varnet")
	c.flags.StringVar(&n.Selector, "selector", "", "the selector of the DKIM key; unless given, the letters are not signed")
	c.flags.IntVar(&n.Daily, "daily", 0, "how many letters leave within 24 hours; 500 unless given")
	servers := c.flags.String("servers", "", "the IP addresses that the letters leave from, with commas between")
	password := c.flags.String("password-file", "", "a file with the password; - is standard input; the one that is kept stays unless given")
	key := c.flags.String("key-file", "", "a file with a private RSA key (PEM) to sign by; unless given, the one that is kept stays, or a new one is made")
	return ask(c, func(ctx context.Context, api *client.Client) (s contract.TrialSender, err error) {
		n.Servers = fields(*servers)
		if n.Password, err = c.secretIn(*password); err != nil {
			return s, err
		}
		if n.Key, err = c.secretIn(*key); err != nil {
			return s, err
		}
		return api.SetTrialSender(ctx, n)
	}, c.tellTrials)
}

// secretIn reads the secret of a file without the line break at its end; nil where no file is
// named.
func (c *cli) secretIn(file string) (*string, error) {
	if file == "" {
		return nil, nil
	}
	text, err := c.read(file)
	if err != nil {
		return nil, err
	}
	text = strings.TrimRight(text, "\r\n")
	return &text, nil
}

func forecastTrials(c *cli) action {
	return ask(c, of(c, "run", (*client.Client).ForecastTrialLetters), func(f contract.TrialForecast) error {
		if err := c.sentence(f.Says); err != nil {
			return err
		}
		for _, l := range f.LeftOut {
			if err := c.sentence(fmt.Sprintf("%d get none: they %s.", l.Addresses, l.Why)); err != nil {
				return err
			}
		}
		if f.Problem != "" {
			return c.sentence(f.Problem)
		}
		return nil
	})
}

func stopTrials(c *cli) action {
	return ask(c, of(c, "mailing", (*client.Client).StopTrialLetters), func(m contract.Mailing) error { return c.sentence(m.Says) })
}
