// Bench measures Varnet and prints tables. Each bench drives the built binary
// on a practice internet, names its baseline and says which bars were missed.
package main

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"varnet/internal/steal"
)

var benches = map[string]func() error{"abuse": abuse, "check": check, "load": load, "trust": trust, "intake": intake, "million": million, "ten-million": tenMillion, "hundred-million": hundredMillion, "pace": paceBench, "latency": latency, "chaos": chaos, "first": first, "crowd": crowd, "teams": teams, "console": console, "politeness": politeness, "routines": routines, "bounces": bounces, "workshop": workshopBench, "odds": oddsBench, "ledger": ledgerBench, "forms": forms, "connections": connections, attackName: attackAlone, programName: programAlone}

func main() {
	if len(os.Args) != 2 || benches[os.Args[1]] == nil {
		var names []string
		for n := range benches {
			if n != attackName && n != programName { // which benches of ours begin
				names = append(names, n)
			}
		}
		slices.Sort(names)
		fmt.Fprintf(os.Stderr, "name a bench: %s\n", strings.Join(names, ", "))
		os.Exit(2)
	}
	taken := steal.Since()
	err := benches[os.Args[1]]()
	fmt.Printf("\nof the processors' time that was wanted the host gave %.0f %% to others\n", taken())
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}
