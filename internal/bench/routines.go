package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

// Routines of several workspaces that are due at the same minute.
const (
	routinePort       = 2713
	routineWorkspaces = 10
	routinesEach      = 100
	routineRows       = 20
	routineStart      = 60 * time.Second // within which all have begun to verify
	routineWatch      = 40 * time.Second // for how long checks and memory are looked at
	routineMemory     = 300              // MB
	routineCheck      = 20 * time.Millisecond
)

// routines has a thousand routines due at once, and measures when each begins to verify, whether
// one workspace waits for another, and what single checks feel of it.
func routines() error {
	w, err := plainWorld()
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "varnet-bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	clock := filepath.Join(folder, "clock")
	if err := os.WriteFile(clock, []byte("0s"), 0o600); err != nil {
		return err
	}
	in, err := install(w, routinePort, "VARNET_ROUNDS=1s", "VARNET_CLOCK="+clock)
	if err != nil {
		return err
	}
	defer in.stop()
	var spaces []*client.Client
	for n := range routineWorkspaces {
		api, err := in.workspaceOfRoutines(w, fmt.Sprintf("workspace %d", n))
		if err != nil {
			return err
		}
		spaces = append(spaces, api)
	}
	checks := watchChecks(in, w)
	time.Sleep(10 * time.Second)
	calm := checks.take()
	if err := os.WriteFile(clock, []byte("24h"), 0o600); err != nil {
		return err
	}
	due := time.Now()
	begun, most, err := awaitRoutines(in, spaces, due)
	busy := checks.take()
	checks.stop()
	if err != nil {
		return err
	}
	return tellRoutines(begun, most, calm, busy)
}

// workspaceOfRoutines makes a workspace with a list and its routines.
func (in *installation) workspaceOfRoutines(w *practice.World, name string) (*client.Client, error) {
	key, err := in.command("key", "new", "-workspace", name).Output()
	if err != nil {
		return nil, err
	}
	api, ctx := client.New(in.url, strings.TrimSpace(string(key))), context.Background()
	var list strings.Builder
	if err := w.WriteList(&list, routineRows); err != nil {
		return nil, err
	}
	l, err := api.Import(ctx, client.File{Name: "members.csv", Body: strings.NewReader(list.String())})
	if err != nil {
		return nil, err
	}
	for n := range routinesEach {
		if _, err := api.MakeRoutine(ctx, contract.NewRoutine{Name: fmt.Sprintf("Routine %d", n), RoutineSpec: contract.RoutineSpec{
			Source: "list", ListID: l.ID, Rule: "FREQ=DAILY", Time: "03:00", Policy: "careful", Then: "nothing", Tell: "problems"}}); err != nil {
			return nil, err
		}
	}
	return api, nil
}

// awaitRoutines waits until all routines verify, and some time more: for each workspace when each
// was seen to have begun, after they were due, and the most memory meanwhile, in MB. How long they
// go on is up to their hosts, all of which are the same.
func awaitRoutines(in *installation, spaces []*client.Client, due time.Time) (begun [][]time.Duration, most float64, err error) {
	begun = make([][]time.Duration, len(spaces))
	for end := due.Add(4 * time.Minute); ; time.Sleep(500 * time.Millisecond) {
		kb, err := memoryLine(fmt.Sprintf("/proc/%d/status", in.pid), "VmRSS:")
		if err != nil {
			return nil, 0, err
		}
		most = max(most, kb/1024)
		done := 0
		for n, api := range spaces {
			page, err := api.Routines(context.Background())
			if err != nil {
				return nil, 0, err
			}
			verifying := 0
			for _, r := range page.Items {
				if r.Last == nil || r.Last.RunID == 0 {
					continue
				}
				verifying++
			}
			done += verifying
			for len(begun[n]) < verifying {
				begun[n] = append(begun[n], time.Since(due))
			}
		}
		if done == len(spaces)*routinesEach && time.Since(due) > routineWatch {
			return begun, most, nil
		}
		if time.Now().After(end) {
			return nil, 0, fmt.Errorf("%v after they were due %d of %d routines verify", end.Sub(due), done, len(spaces)*routinesEach)
		}
	}
}

func tellRoutines(begun [][]time.Duration, memory float64, calm, busy []time.Duration) error {
	var all, medians []time.Duration
	for _, b := range begun {
		slices.Sort(b)
		all, medians = append(all, b...), append(medians, b[len(b)/2])
	}
	slices.Sort(all)
	slices.Sort(medians)
	missed := 0
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "%d routines of %d workspaces due at once\tmeasured\tbar\t\t\n", len(all), len(begun))
	line := func(what, measured, bar string, ok bool) {
		verdict := "met"
		if !ok {
			verdict = "MISSED"
			missed++
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t\n", what, measured, bar, verdict)
	}
	last := all[len(all)-1]
	line("the last one begins to verify after", short(last).String(), "at most "+routineStart.String(), last <= routineStart)
	spread := medians[len(medians)-1] - medians[0]
	line("between the medians of two workspaces", short(spread).String(), "at most a quarter of that", spread*4 <= last)
	line("memory of the service, MB", fmt.Sprintf("%.0f", memory), fmt.Sprintf("under %d", routineMemory), memory < routineMemory)
	line("p95 of a single check, beyond "+short(p95Of(calm)).String()+" before", short(p95Of(busy)-p95Of(calm)).String(), "under "+routineCheck.String(), p95Of(busy)-p95Of(calm) < routineCheck)
	if err := t.Flush(); err != nil {
		return err
	}
	if missed > 0 {
		return errors.New("some bars were missed")
	}
	return nil
}

// checked are single checks of one address, made one after the other.
type checked struct {
	took chan []time.Duration
	ask  chan bool
	stop context.CancelFunc
}

// watchChecks checks an address ten times a second.
func watchChecks(in *installation, w *practice.World) *checked {
	ctx, cancel := context.WithCancel(context.Background())
	c := &checked{make(chan []time.Duration), make(chan bool), cancel}
	// At operators that hardly any list has, in turns: where others ask, too, a check waits as it
	// must, and that is not a share of ours.
	var addresses []string
	for _, o := range w.Operators[max(0, len(w.Operators)-20):] {
		addresses = append(addresses, "postmaster@"+o.Domains[0])
	}
	go func() {
		var took []time.Duration
		tick := time.NewTicker(100 * time.Millisecond)
		defer tick.Stop()
		for n := 0; ; n++ {
			select {
			case <-tick.C:
				begun := time.Now()
				if _, err := in.api.Check(ctx, []string{addresses[n%len(addresses)]}); err == nil {
					took = append(took, time.Since(begun))
				}
			case <-c.ask:
				c.took <- took
				took = nil
			case <-ctx.Done():
				return
			}
		}
	}()
	return c
}

// take returns how long the checks took since it was called last.
func (c *checked) take() []time.Duration {
	c.ask <- true
	return <-c.took
}
