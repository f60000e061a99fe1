package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"varnet/core/say"
	"varnet/internal/client"
)

func signInCommand() command {
	return command{"sign-in", "", "signs you in on this machine: it shows a code that you type in the console", "varnet sign-in -server https://varnet.fernhollow.example", signIn, nil}
}

func signOutCommand() command {
	return command{"sign-out", "", "ends your session on this machine", "varnet sign-out", signOut, nil}
}

// tokensFile keeps the tokens of this person's sessions, by service, readable by them alone.
func tokensFile() (string, error) {
	folder, err := os.UserConfigDir()
	if err != nil {
		return "", errors.New("this user has no home folder to keep the session in; give a key as VARNET_KEY")
	}
	return filepath.Join(folder, "varnet", "sessions.json"), nil
}

func readTokens() (map[string]string, error) {
	name, err := tokensFile()
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return map[string]string{}, nil
	}
	tokens := map[string]string{}
	if err == nil {
		err = json.Unmarshal(text, &tokens)
	}
	if err != nil {
		return nil, fmt.Errorf("the sessions in %s cannot be read: %w", name, say.WithoutPath(err))
	}
	return tokens, nil
}

// tokenFor is the token of the session at a service; "" for none.
func tokenFor(server string) string {
	tokens, _ := readTokens()
	return tokens[strings.TrimRight(server, "/")]
}

// keepToken keeps the token of a session at a service; "" forgets it.
func keepToken(server, token string) error {
	tokens, err := readTokens()
	if err != nil {
		return err
	}
	if server = strings.TrimRight(server, "/"); token == "" {
		delete(tokens, server)
	} else {
		tokens[server] = token
	}
	text, err := json.MarshalIndent(tokens, "", "  ")
	if err != nil {
		return err
	}
	name, _ := tokensFile()
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	fresh := name + ".new"
	if err := os.WriteFile(fresh, append(text, '\n'), 0o600); err != nil {
		return fmt.Errorf("the session cannot be kept in %s: %w", name, say.WithoutPath(err))
	}
	return os.Rename(fresh, name)
}

func signIn(c *cli) action {
	server := c.setting("server", "VARNET_SERVER", "http://127.0.0.1:8025", "the service")
	return func(ctx context.Context) error {
		api := client.New(*server, "")
		device, err := os.Hostname()
		if err != nil {
			device = "the command line"
		}
		g, err := api.AskIn(ctx, device)
		if err != nil {
			return err
		}
		at := g.URL
		if strings.HasPrefix(at, "/") { // the service has not been told where people reach it
			at = strings.TrimRight(*server, "/") + at
		}
		fmt.Fprintf(c.err, "Open %s\nand type this code: %s\nIt expires at %s.\n", printable(at), printable(g.Code), g.ExpiresAt.Local().Format("15:04"))
		token, err := await(ctx, api, g.Secret, device, time.Duration(g.Interval)*time.Second, g.ExpiresAt)
		if err != nil {
			return err
		}
		if err := keepToken(*server, token); err != nil {
			return err
		}
		s, err := client.New(*server, token).Session(ctx)
		if err != nil {
			return err
		}
		return c.sentence(fmt.Sprintf("Signed in as %s, in the workspace “%s”.", s.Person.Name, s.Workspace))
	}
}

// await asks until a device is let in (RFC 8628, 3.5): more seldom when it is told to.
func await(ctx context.Context, api *client.Client, secret, device string, every time.Duration, until time.Time) (string, error) {
	for time.Now().Before(until) {
		select {
		case <-time.After(every):
		case <-ctx.Done():
			return "", ctx.Err()
		}
		s, err := api.AwaitDevice(ctx, secret, device)
		switch {
		case err != nil:
			return "", err
		case s.State == "in":
			return s.Token, nil
		case s.State == "too-soon":
			every += 5 * time.Second
		}
	}
	return "", errors.New("nobody has typed the code in time; begin again")
}

func signOut(c *cli) action {
	server := c.setting("server", "VARNET_SERVER", "http://127.0.0.1:8025", "the service")
	return func(ctx context.Context) error {
		token := tokenFor(*server)
		if token == "" {
			return c.sentence("You are not signed in there.")
		}
		err := client.New(*server, token).SignOut(ctx)
		var p *client.Problem
		if errors.As(err, &p) && p.Status == 401 { // it had ended
			err = nil
		}
		return errors.Join(err, keepToken(*server, ""))
	}
}
