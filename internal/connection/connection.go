// Package connection looks after the connections of workspaces: their settings, of which the
// secret ones are kept sealed, and the places that they open.
package connection

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"varnet/core/problem"
	"varnet/core/say"
	"varnet/internal/connect"
	"varnet/internal/connect/kinds"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// purpose is what secrets of connections are sealed for.
const purpose = "connection"

// Connections are those of all workspaces.
type Connections struct {
	Store   *store.Store
	Secrets *secret.Box
	// Env is what places work with; the workspace is filled in.
	Env connect.Env
}

// Settings returns all that a connection is set to, secrets among it.
func (c *Connections) Settings(kept store.Connection) (connect.Settings, error) {
	out := connect.Settings(maps.Clone(kept.Settings))
	if out == nil {
		out = connect.Settings{}
	}
	secrets, err := c.opened(kept.Sealed)
	if err != nil {
		return nil, fmt.Errorf("the secrets of the connection “%s” cannot be opened: %w", kept.Name, err)
	}
	maps.Copy(out, secrets)
	return out, nil
}

func (c *Connections) opened(sealed []byte) (out map[string]string, err error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	text, err := c.Secrets.Open(sealed, purpose)
	if err == nil {
		err = json.Unmarshal([]byte(text), &out)
	}
	return out, err
}

func (c *Connections) seal(secrets map[string]string) []byte {
	if len(secrets) == 0 {
		return nil
	}
	text, _ := json.Marshal(secrets) // texts alone
	return c.Secrets.Seal(string(text), purpose)
}

// Set has a connection be set to given settings. A secret that is left out stays what it was, unless it would be
// sent elsewhere now: who may change a connection need not know its secrets.
func (c *Connections) Set(kept *store.Connection, given map[string]string) error {
	k, ok := kinds.Of(kept.Kind)
	if !ok {
		return problem.In("kind", "there is no kind of connection %q", kept.Kind)
	}
	had, err := c.opened(kept.Sealed)
	if err != nil {
		return err
	}
	all := connect.Settings{}
	for name, v := range given {
		all[name] = v
	}
	var taken []string
	for _, name := range k.Secrets() {
		if strings.TrimSpace(all[name]) == "" {
			delete(all, name)
			if had[name] != "" {
				all[name] = had[name]
				taken = append(taken, name)
			}
		}
	}
	if err := k.CheckSettings(all); err != nil {
		return err
	}
	if len(taken) > 0 && k.Leads(all) != k.Leads(kept.Settings) {
		if err := notElsewhere(k, all, taken); err != nil {
			return err
		}
	}
	secrets := map[string]string{}
	for _, name := range k.Secrets() {
		if v, ok := all[name]; ok {
			secrets[name] = v
			delete(all, name)
		}
	}
	kept.Settings, kept.Sealed = all, c.seal(secrets)
	return nil
}

// notElsewhere asks for secrets again that were taken over and would be sent elsewhere; what a place gave itself is
// dropped.
func notElsewhere(k connect.Kind, all connect.Settings, taken []string) error {
	for _, f := range k.Fields {
		switch {
		case !slices.Contains(taken, f.Name):
		case f.Given:
			delete(all, f.Name)
		default:
			return problem.In(f.Name, "%s was entered for another place; enter it again", f.Title)
		}
	}
	return nil
}

// Open opens the place that a connection leads to. It contacts nobody.
func (c *Connections) Open(kept store.Connection) (connect.Place, error) {
	k, ok := kinds.Of(kept.Kind)
	if !ok {
		return nil, connect.Broken("There is no kind of connection %q any more.", kept.Kind)
	}
	s, err := c.Settings(kept)
	if err != nil {
		return nil, err
	}
	env := c.Env
	env.Workspace = kept.WorkspaceID
	env.Renew = func(ctx context.Context, field, had string, renew func(string) (string, error)) (string, error) {
		return c.renew(ctx, kept, field, had, renew)
	}
	return k.Open(env, s)
}

// renew replaces a secret of a connection, unless somebody else did meanwhile.
func (c *Connections) renew(ctx context.Context, kept store.Connection, field, had string, renew func(string) (string, error)) (fresh string, err error) {
	if kept.ID == 0 { // it is not kept yet
		return renew(had)
	}
	_, err = c.Store.ChangeConnection(ctx, kept.WorkspaceID, kept.ID, func(now *store.Connection) error {
		secrets, err := c.opened(now.Sealed)
		if err != nil {
			return err
		}
		if fresh = secrets[field]; fresh != had && fresh != "" {
			return nil
		}
		if fresh, err = renew(had); err != nil {
			return err
		}
		return c.SetSecret(now, field, fresh)
	})
	return fresh, err
}

// SetSecret sets a secret of a connection.
func (c *Connections) SetSecret(kept *store.Connection, field, value string) error {
	secrets, err := c.opened(kept.Sealed)
	if err != nil {
		return err
	}
	if secrets == nil {
		secrets = map[string]string{}
	}
	secrets[field] = value
	kept.Sealed = c.seal(secrets)
	return nil
}

// Has returns which secrets a connection has.
func (c *Connections) Has(kept store.Connection) (out []string) {
	k, _ := kinds.Of(kept.Kind)
	secrets, err := c.opened(kept.Sealed)
	if err != nil {
		return nil
	}
	for _, name := range k.Secrets() {
		if secrets[name] != "" {
			out = append(out, name)
		}
	}
	return out
}

// testWait is how long a test may take.
const testWait = 30 * time.Second

// Test tries a connection out, and notes in it what was seen. Its error is not the place's.
func (c *Connections) Test(ctx context.Context, kept *store.Connection) error {
	ctx, cancel := context.WithTimeout(ctx, testWait)
	defer cancel()
	p, err := c.Open(*kept)
	if err == nil {
		defer p.Close()
		kept.Says, err = p.Test(ctx)
	}
	now := time.Now()
	kept.TestedAt = &now
	if err == nil {
		kept.BrokenAt = nil
		return nil
	}
	kept.Says = Says(err)
	if kept.BrokenAt == nil {
		kept.BrokenAt = &now
	}
	return nil
}

// Says is an error of a place in a sentence.
func Says(err error) string {
	if err == context.DeadlineExceeded {
		return "The place did not answer in time."
	}
	return err.Error()
}

// Reseal seals the secrets of connections with the present secret, and returns how many there are.
func (c *Connections) Reseal(ctx context.Context) (int, error) {
	return c.Store.Reseal(ctx, store.ConnectionSecrets, func(_ string, sealed []byte) ([]byte, error) { return c.Secrets.Reseal(sealed, purpose) })
}

// ImportSays says how far an import has come.
func ImportSays(i store.Import) string {
	switch {
	case i.State == store.ImportImporting:
		return fmt.Sprintf("All %s came, and become a list.", say.Plural(i.Contacts, "contact", "contacts"))
	case i.Expected > 0:
		return fmt.Sprintf("%s of %s came.", say.Number(i.Contacts), say.Plural(i.Expected, "contact", "contacts"))
	}
	return fmt.Sprintf("%s came so far.", say.Plural(i.Contacts, "contact", "contacts"))
}
