package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// usage is the processor time that the parts of an installation have used so
// far: it tells of work also where other machines on the same host steal time.
type usage struct{ service, server, internet time.Duration }

// used reads what was used until now; internet is this process, with the practice
// internet in it.
func (in *installation) used() (u usage, err error) {
	if u.service, err = processorTime(in.pid, false); err != nil {
		return u, err
	}
	server, err := serverPID(context.Background())
	if err != nil {
		return u, err
	}
	for _, pid := range family(server) {
		t, _ := processorTime(pid, pid == server) // a connection may just have ended
		u.server += t
	}
	var self syscall.Rusage
	err = syscall.Getrusage(syscall.RUSAGE_SELF, &self)
	u.internet = time.Duration(self.Utime.Nano() + self.Stime.Nano())
	return u, err
}

func (u usage) since(before usage) usage {
	return usage{u.service - before.service, u.server - before.server, u.internet - before.internet}
}

// ticks is how many of the kernel's clock ticks make a second (proc(5)).
const ticks = 100

// processorTime is what a process has used, with its ended children or without
// (proc(5): utime, stime, cutime and cstime of /proc/pid/stat).
func processorTime(pid int, children bool) (time.Duration, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	_, after, _ := strings.Cut(string(text), ") ") // the name may hold anything
	fields := strings.Fields(after)[11:15]
	if !children {
		fields = fields[:2]
	}
	sum := time.Duration(0)
	for _, f := range fields {
		n, err := strconv.ParseInt(f, 10, 64)
		if err != nil {
			return 0, err
		}
		sum += time.Duration(n) * time.Second / ticks
	}
	return sum, nil
}
