package main

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func connectionsCommand() command {
	return command{"connections", "", "shows the connections of the workspace, and manages them", "varnet connections", showConnections, []command{
		{"kinds", "", "shows the kinds of places, and what a connection of each is set to", "varnet connections kinds", showKinds, nil},
		{"show", "CONNECTION", "shows a connection with its settings, but for its secrets", "varnet connections show 2", showConnection, nil},
		{"make", "-name NAME -kind KIND -set NAME=VALUE", "makes a connection, and tests it; a value that begins with @ is read from a file",
			"varnet connections make -name Members -kind platform -set recipe=@shed.json -set key=@shed.key", makeConnection, nil},
		{"change", "CONNECTION -set NAME=VALUE", "changes settings of a connection, and tests it; the others stay", "varnet connections change 2 -set key=@shed.key", changeConnection, nil},
		{"test", "CONNECTION", "tests a connection", "varnet connections test 2", testConnection, nil},
		{"collections", "CONNECTION", "shows what a connection offers to import", "varnet connections collections 2", showCollections, nil},
		{"imports", "CONNECTION", "shows the newest imports of a connection", "varnet connections imports 2", showImports, nil},
		{"delete", "CONNECTION", "deletes a connection; its lists stay, its journals go", "varnet connections delete 2", deleteConnection, nil},
	}}
}

var connectionTable = table[contract.Connection]{"There are no connections. Make one: varnet connections make -h", "connection\tname\tkind\tworks\twhat", func(w io.Writer, k contract.Connection) {
	works := "yes"
	if !k.Works {
		works = "no"
	}
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\n", k.ID, printable(k.Name), k.Kind, works, printable(k.Says))
}}

func showConnections(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Connection], error) {
		return api.Connections(ctx)
	}, connectionTable.of(c))
}

var settingTable = table[contract.ConnectionField]{"", "setting\twhat", func(w io.Writer, f contract.ConnectionField) {
	what := strings.TrimSpace(f.Title + ". " + f.Help)
	if len(f.Choices) > 0 {
		what += " One of " + strings.Join(f.Choices, ", ") + "."
	}
	if f.Example != "" && !f.Long {
		what += " Such as " + f.Example + "."
	}
	if f.Default != "" {
		what += " Unless given: " + f.Default + "."
	}
	fmt.Fprintf(w, "%s\t%s\n", f.Name, printable(what))
}}

func showKinds(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.ConnectionKind], error) {
		return api.ConnectionKinds(ctx)
	}, func(p contract.Page[contract.ConnectionKind]) error {
		for _, k := range p.Items {
			if err := c.sentence(fmt.Sprintf("%s: %s It takes back: %s.", k.Code, k.Says, strings.Join(k.Takes, ", "))); err != nil {
				return err
			}
			fields := slices.DeleteFunc(k.Fields, func(f contract.ConnectionField) bool { return f.Given })
			if err := settingTable.of(c)(contract.Page[contract.ConnectionField]{Items: fields}); err != nil {
				return err
			}
			fmt.Fprintln(c.out)
		}
		return nil
	})
}

func showConnection(c *cli) action {
	return ask(c, atConnection(c, (*client.Client).Connection), func(k contract.Connection) error { return c.printJSON(k) })
}

// pairs is a flag that is given once for each NAME=VALUE.
type pairs map[string]string

// String implements flag.Value.
func (p pairs) String() string {
	return strings.Join(slices.Sorted(maps.Keys(p)), " ")
}

// Set implements flag.Value.
func (p pairs) Set(text string) error {
	name, value, ok := strings.Cut(text, "=")
	if !ok || name == "" {
		return fmt.Errorf("%q is not NAME=VALUE", text)
	}
	p[name] = value
	return nil
}

// given adds the flag that gives settings, and returns them: those from files are read.
func (c *cli) given() func() (map[string]string, error) {
	given := pairs{}
	c.flags.Var(given, "set", "a setting, as `NAME=VALUE`, or as NAME=@FILE; give it once for each")
	return func() (map[string]string, error) {
		for name, value := range given {
			file, ok := strings.CutPrefix(value, "@")
			if !ok {
				continue
			}
			text, err := os.ReadFile(file)
			if err != nil {
				return nil, fmt.Errorf("the file of the setting %s cannot be read: %w", name, say.WithoutPath(err))
			}
			given[name] = strings.TrimRight(string(text), "\r\n")
		}
		return given, nil
	}
}

func makeConnection(c *cli) action {
	var n contract.NewConnection
	c.flags.StringVar(&n.Name, "name", "", "the name of the connection")
	c.flags.StringVar(&n.Kind, "kind", "", "the kind of place; varnet connections kinds shows them")
	settings := c.given()
	return ask(c, func(ctx context.Context, api *client.Client) (k contract.Connection, err error) {
		if n.Settings, err = settings(); err != nil {
			return k, err
		}
		return api.MakeConnection(ctx, n)
	}, connectionTable.one(c))
}

func changeConnection(c *cli) action {
	name := c.flags.String("name", "", "another name")
	settings := c.given()
	return ask(c, atConnection(c, func(api *client.Client, ctx context.Context, id int64) (k contract.Connection, err error) {
		given, err := settings()
		if err != nil {
			return k, err
		}
		var change contract.ConnectionChange
		if *name != "" {
			change.Name = name
		}
		if len(given) > 0 {
			if k, err = api.Connection(ctx, id); err != nil {
				return k, err
			}
			change.Settings = k.Settings
			maps.Copy(change.Settings, given)
		}
		return api.ChangeConnection(ctx, id, change)
	}), connectionTable.one(c))
}

func testConnection(c *cli) action {
	return ask(c, atConnection(c, (*client.Client).TestConnection), func(k contract.Connection) error {
		if !k.Works {
			return fmt.Errorf("%s", k.Says)
		}
		return c.sentence(k.Says)
	})
}

// atConnection is of for a connection, which is named by its number or its name.
func atConnection[T any](c *cli, call func(*client.Client, context.Context, int64) (T, error)) func(context.Context, *client.Client) (T, error) {
	return func(ctx context.Context, api *client.Client) (answer T, err error) {
		id, err := strconv.ParseInt(c.args[0], 10, 64)
		if err != nil {
			all, err := api.Connections(ctx)
			if err != nil {
				return answer, err
			}
			at := slices.IndexFunc(all.Items, func(k contract.Connection) bool { return strings.EqualFold(k.Name, c.args[0]) })
			if at < 0 {
				return answer, fmt.Errorf("there is no connection %q; varnet connections shows them", c.args[0])
			}
			id = all.Items[at].ID
		}
		return call(api, ctx, id)
	}
}

var collectionTable = table[contract.Collection]{"The place offers nothing to import.", "collection\tname\tkind\tcontacts\tlist", func(w io.Writer, k contract.Collection) {
	contacts, list := "-", "-"
	if k.Contacts >= 0 {
		contacts = say.Number(k.Contacts)
	}
	if k.ListID > 0 {
		list = fmt.Sprint(k.ListID)
	}
	fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", printable(k.ID), printable(k.Name), printable(k.Kind), contacts, list)
}}

func showCollections(c *cli) action {
	return ask(c, atConnection(c, (*client.Client).Collections), collectionTable.of(c))
}

var importTable = table[contract.Import]{"Nothing was imported from it yet.", "import\tcollection\tbegun\tstate\tlist\twhat", func(w io.Writer, i contract.Import) {
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%d\t%s\n", i.ID, printable(i.Name), minute(&i.BegunAt, ""), i.State, i.ListID, printable(i.Says))
}}

func showImports(c *cli) action {
	return ask(c, atConnection(c, (*client.Client).Imports), importTable.of(c))
}

func deleteConnection(c *cli) action {
	return ask(c, atConnection(c, func(api *client.Client, ctx context.Context, id int64) (struct{}, error) {
		return struct{}{}, api.DeleteConnection(ctx, id)
	}), func(struct{}) error { return c.sentence("The connection is deleted; its lists stay.") })
}

func importCommand() command {
	return command{"import", "CONNECTION COLLECTION", "imports a collection of a connection as a list, and waits until it is one; a file: varnet lists import", "varnet import \"Potting Shed\" Members", importCollection, nil}
}

// lookEvery is how often it is asked how far something has come.
const lookEvery = 500 * time.Millisecond

func importCollection(c *cli) action {
	name := c.flags.String("name", "", "the name of the list; that of the collection unless given")
	return ask(c, atConnection(c, func(api *client.Client, ctx context.Context, id int64) (i contract.Import, err error) {
		i, err = api.BeginImport(ctx, id, contract.NewImport{Collection: c.args[1], Name: *name})
		said := ""
		for err == nil && i.EndedAt == nil {
			if i.Says != said {
				said = i.Says
				fmt.Fprintln(c.err, printable(said))
			}
			select {
			case <-time.After(lookEvery):
				i, err = api.ImportByID(ctx, i.ID)
			case <-ctx.Done():
				return i, ctx.Err()
			}
		}
		if err == nil && i.State == "failed" {
			err = fmt.Errorf("%s", i.Says)
		}
		return i, err
	}), func(i contract.Import) error { return c.sentence(fmt.Sprintf("List %d. %s", i.ListID, i.Says)) })
}
