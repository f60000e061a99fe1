package main

import (
	"context"

	"varnet/internal/client"
	"varnet/internal/contract"
)

func lettersCommand() command {
	return command{"letters", "", "shows by which server letters are sent, and sets it up", "varnet letters", showLetters, []command{
		{"set", "-host HOST -sender SENDER -base-url URL", "sets the submission server up; the password is read from a file, so that it is in no history",
			"varnet letters set -host smtp.fernhollow.example -username varnet -password-file password.txt -sender \"Varnet <varnet@fernhollow.example>\" -base-url https://varnet.fernhollow.example", setLetters, nil},
		{"test", "ADDRESS", "sends a test letter", "varnet letters test ada.moss@fernhollow.example", testLetters, nil},
		{"remove", "", "stops sending letters", "varnet letters remove", removeLetters, nil},
	}}
}

func (c *cli) tellLetters(s contract.LetterSettings) error {
	if s.Server == nil {
		return c.sentence(s.Says)
	}
	password := "without a password"
	if s.Password {
		password = "with a password"
	}
	return c.sentence(s.Says + "\nSecurity: " + s.Server.Security + ", " + password + ". Links begin with " + s.Server.BaseURL + ".")
}

func showLetters(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.LetterSettings, error) {
		return api.LetterSettings(ctx)
	}, c.tellLetters)
}

func setLetters(c *cli) action {
	var n contract.NewLetterServer
	c.flags.StringVar(&n.Host, "host", "", "the submission server's name or address")
	c.flags.IntVar(&n.Port, "port", 587, "its port: usually 587 with STARTTLS, 465 with TLS")
	c.flags.StringVar(&n.Security, "security", "starttls", "starttls, tls, or none for a server on this machine")
	c.flags.StringVar(&n.Username, "username", "", "the name to sign in with; none unless given")
	c.flags.StringVar(&n.Sender, "sender", "", "name and address of the sender")
	c.flags.StringVar(&n.BaseURL, "base-url", "", "where people reach the console")
	file := c.flags.String("password-file", "", "a file with the password; - is standard input; the one that is kept stays unless given")
	return ask(c, func(ctx context.Context, api *client.Client) (s contract.LetterSettings, err error) {
		if n.Password, err = c.secretIn(*file); err != nil {
			return s, err
		}
		return api.SetLetterServer(ctx, n)
	}, c.tellLetters)
}

func testLetters(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.LetterSent, error) {
		return api.TestLetterServer(ctx, c.args[0])
	}, func(s contract.LetterSent) error { return c.sentence(s.Says) })
}

func removeLetters(c *cli) action {
	return do(c, func(ctx context.Context, api *client.Client) error { return api.RemoveLetterServer(ctx) })
}
