// Bench measures Varnet and prints tables. Each bench drives the built binary
// on a practice internet, names its baseline and says which bars were missed.
package main

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"varnet/internal/steal"
)

var benches = map[string]func() error{"abuse": abuse, "check": check, "load": load, "trust": trust, "intake": intake, "million": million, "ten-million": tenMillion, "hundred-million": hundredMillion, "pace": paceBench, "latency": latency, "chaos": chaos, "first": first, "crowd": crowd, "teams": teams, "console": console, "politeness": politeness, "routines": routines, "bounces": bounces, "workshop": workshopBench, "odds": oddsBench, "ledger": ledgerBench, "forms": forms, "connections": connections}

// parts are what benches begin as processes of their own; what they print is read by the bench.
var parts = map[string]func() error{attackName: attackAlone, programName: programAlone}

func main() {
	if len(os.Args) != 2 || benches[os.Args[1]] == nil && parts[os.Args[1]] == nil {
		fmt.Fprintf(os.Stderr, "name a bench: %s\n", strings.Join(slices.Sorted(maps.Keys(benches)), ", "))
		os.Exit(2)
	}
	if err := run(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// run runs a bench, or a part of one.
func run(name string) error {
	if part := parts[name]; part != nil {
		return part()
	}
	taken := steal.Since()
	err := benches[name]()
	fmt.Printf("\nof the processors' time that was wanted the host gave %.0f %% to others\n", taken())
	return err
}
