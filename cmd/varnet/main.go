// Varnet verifies e-mail addresses in bulk and exports the deliverable ones.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	_ "time/tzdata" // hours and times in zones hold on machines that have none

	"varnet/core/say"
)

// command is one subcommand; behind its name there may be more of them.
type command struct {
	name string
	// usage is what follows the name: arguments and the flags that must be given, such as
	// "RUN -out FILE". Brackets hold what may be left out; … follows what may be repeated.
	usage   string
	does    string
	example string
	// define adds the flags and returns what is done once they are parsed.
	define func(c *cli) action
	subs   []command
}

// action is what a command does with its flags and arguments.
type action func(ctx context.Context) error

// commands are all commands, in the order of the overview.
func commands() []command {
	return []command{
		checkCommand(), cleanCommand(), listsCommand(), runsCommand(), exportCommand(), reportCommand(), routinesCommand(), connectionsCommand(), importCommand(), writeBackCommand(), linksCommand(), mailingsCommand(), bouncesCommand(), trialsCommand(), workshopCommand(), oddsCommand(), activityCommand(), opinionsCommand(), allowanceCommand(), usageCommand(), ledgerCommand(), watchCommand(), policiesCommand(), requestsCommand(), catalogueCommand(),
		outboundCommand(), lettersCommand(), eventsCommand(), webhooksCommand(), keysCommand(), signInCommand(), signOutCommand(), teamCommand(), auditCommand(), installationCommand(), healthCommand(), workersCommand(), serveCommand(), workerCommand(), relayCommand(), migrateCommand(), inspectCommand(), keyCommand(), personCommand(), secretCommand(), backupCommand(), restoreCommand(),
		contractCommand(), versionCommand(), completionCommand(), practiceCommand(),
	}
}

// Exit codes.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
)

// errUsage asks for exitUsage. The message has been printed.
var errUsage = errors.New("usage")

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(call(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// call runs a command and returns the exit code.
func call(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	if len(args) == 0 {
		printCommands(errOut)
		return exitUsage
	}
	if args[0] == "help" || args[0] == "-h" || args[0] == "--help" {
		if args = append(args[1:], "-h"); len(args) == 1 {
			args = nil
		}
	}
	kept := &keptError{w: out}
	c, rest, err := find(args)
	switch {
	case len(args) == 0:
		printCommands(kept)
	case err != nil:
		fmt.Fprintf(errOut, "varnet: %s\n", err)
		return exitUsage
	default:
		c.in, c.out, c.err = in, kept, errOut
		err = c.run(ctx, rest)
	}
	if kept.err != nil {
		err = fmt.Errorf("standard output cannot be written: %w", say.WithoutPath(kept.err))
	}
	switch {
	case err == nil, errors.Is(err, flag.ErrHelp):
		return exitDone
	case errors.Is(err, errUsage):
		return exitUsage
	}
	fmt.Fprintf(errOut, "%s: %s\n", c.title(), printable(err.Error()))
	return exitFailed
}

// find returns the command that the first words name, and the words behind them.
func find(args []string) (*cli, []string, error) {
	c, among := newCLI(command{}, nil), commands()
	for len(args) > 0 {
		sub, ok := named(among, args[0])
		if !ok {
			break
		}
		c, among, args = newCLI(sub, append(c.path, sub.name)), sub.subs, args[1:]
	}
	if len(c.path) == 0 && len(args) > 0 {
		return c, nil, fmt.Errorf("there is no command %q; \"varnet help\" lists them", args[0])
	}
	return c, args, nil
}

// named returns the command of a name.
func named(among []command, name string) (command, bool) {
	for _, c := range among {
		if c.name == name {
			return c, true
		}
	}
	return command{}, false
}

func printCommands(out io.Writer) {
	fmt.Fprint(out, "Varnet verifies e-mail addresses in bulk and exports the deliverable ones.\n\n")
	for _, c := range commands() {
		usage := c.usage
		if usage == "" && len(c.subs) > 0 {
			usage = "[" + c.subs[0].name + "|…]"
		}
		fmt.Fprintf(out, "  varnet %-26s %s\n", strings.TrimSpace(c.name+" "+usage), c.does)
	}
	fmt.Fprint(out, "\n\"varnet COMMAND -h\" shows the settings of a command and an example.\n"+
		"Exit codes: 0 done, 1 failed, 2 wrong use. What a script reads is on standard output, all else on standard error.\n")
}

// keptError is a writer that keeps its first error, so that no fault of standard output
// goes unseen.
type keptError struct {
	w   io.Writer
	err error
}

func (k *keptError) Write(p []byte) (int, error) {
	if k.err != nil {
		return 0, k.err
	}
	n, err := k.w.Write(p)
	k.err = err
	return n, err
}
