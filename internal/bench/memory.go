package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// peakMB is the most memory that a process had.
func peakMB(pid int) (float64, error) {
	kb, err := memoryLine(fmt.Sprintf("/proc/%d/status", pid), "VmHWM:")
	return kb / 1024, err
}

// memoryLine reads a line of numbers of kilobytes.
func memoryLine(file, line string) (float64, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return 0, err
	}
	for l := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(l, line); ok {
			return strconv.ParseFloat(strings.Fields(rest)[0], 64)
		}
	}
	return 0, fmt.Errorf("%s has no line %s", file, line)
}

// watchServer looks at the memory of the PostgreSQL server's processes, what
// they share counted once, until peak is called, which tells the most.
func watchServer(ctx context.Context) (peak func() float64, err error) {
	server, err := serverPID(ctx)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	most := make(chan float64)
	go func() {
		highest := 0.0
		for tick := time.NewTicker(time.Second); ; {
			select {
			case <-tick.C:
				highest = max(highest, familyMB(server))
			case <-ctx.Done():
				tick.Stop()
				most <- highest
				return
			}
		}
	}()
	return func() float64 { cancel(); return <-most }, nil
}

// serverPID is the process that the PostgreSQL server's others come from.
func serverPID(ctx context.Context) (int, error) {
	conn, err := pgx.Connect(ctx, os.Getenv("VARNET_DSN"))
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	var backend int
	if err := conn.QueryRow(ctx, "SELECT pg_backend_pid()").Scan(&backend); err != nil {
		return 0, err
	}
	server, err := memoryLine(fmt.Sprintf("/proc/%d/status", backend), "PPid:")
	return int(server), err
}

// family lists a process and its children.
func family(parent int) (pids []int) {
	all, _ := filepath.Glob("/proc/[0-9]*/status")
	for _, file := range all {
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if above, err := memoryLine(file, "PPid:"); err == nil && (pid == parent || int(above) == parent) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// familyMB is the memory of a process and its children: their own, and once what
// they share.
func familyMB(parent int) float64 {
	own, shared := 0.0, 0.0
	for _, pid := range family(parent) {
		status := fmt.Sprintf("/proc/%d/status", pid)
		kb, err := memoryLine(status, "RssAnon:")
		if err != nil {
			continue // it has ended
		}
		own += kb
		if kb, err = memoryLine(status, "RssShmem:"); err == nil {
			shared = max(shared, kb)
		}
	}
	return (own + shared) / 1024
}

// resetPeak has the most memory that a process had counted from now on (proc(5): clear_refs).
func resetPeak(pid int) error {
	return os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0o200)
}
