// Package steal watches what the host of a virtual machine gives of the processors' time to others while there is
// work here. Figures of milliseconds are worth little where that is much: benches and the tour tell it beside theirs.
package steal

import (
	"os"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Since begins to watch; share returns how much of the processors' time that was wanted since was given to others,
// in percent (proc(5), /proc/stat), 0 where the kernel does not tell.
func Since() (share func() float64) {
	before := read()
	return func() float64 { return read().since(before) }
}

// counted is how long, in ticks, the processors were at work since the machine began, and how long they were wanted
// while the host had others run.
type counted struct{ busy, stolen float64 }

func (c counted) since(before counted) (percent float64) {
	stolen := c.stolen - before.stolen
	return 100 * stolen / max(1, stolen+c.busy-before.busy)
}

func read() counted {
	text, _ := os.ReadFile("/proc/stat")
	return parse(string(text))
}

// parse reads the first line of /proc/stat: all processors together.
func parse(text string) (c counted) {
	line, _, _ := strings.Cut(text, "\n")
	for i, f := range strings.Fields(line) {
		n, _ := strconv.ParseFloat(f, 64)
		switch i {
		case 1, 2, 3, 6, 7: // user, nice, system, irq, softirq
			c.busy += n
		case 8:
			c.stolen = n
		}
	}
	return c
}

const (
	// window is the shortest time that the kernel's ticks of 10 ms tell something of.
	window = 500 * time.Millisecond
	// calm is the most that others get of a calm window, in percent of what was wanted; a tick is nothing, however
	// little that was.
	calm = 2
)

// Watch knows which moments were calm: the host gave next to nothing to others.
type Watch struct {
	stop func()
	mu   sync.Mutex
	ends []time.Time // of the windows, one after the other
	calm []bool      // each of them
}

// Begin begins to watch, until End.
func Begin() *Watch {
	w, done := &Watch{}, make(chan struct{})
	w.stop = sync.OnceFunc(func() { close(done) })
	go func() {
		tick := time.NewTicker(window)
		defer tick.Stop()
		for before := read(); ; {
			select {
			case at := <-tick.C:
				now := read()
				w.add(at, now.stolen-before.stolen <= 1 || now.since(before) <= calm)
				before = now
			case <-done:
				return
			}
		}
	}()
	return w
}

// End ends it; what was seen stays known.
func (w *Watch) End() { w.stop() }

func (w *Watch) add(end time.Time, calm bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.ends, w.calm = append(w.ends, end), append(w.calm, calm)
}

// Calm reports whether the window of a moment, the one before it and the one after it were calm: what had piled up
// is done, and what begins then is mostly at its end. How long it takes in fact has no part in that: the slow would
// be left out for being slow. A moment whose windows are not all over, or before the first, is not known to be calm.
func (w *Watch) Calm(at time.Time) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	n := 0
	for n < len(w.ends) && !at.Before(w.ends[n]) {
		n++
	}
	return n > 0 && n+1 < len(w.ends) && w.calm[n-1] && w.calm[n] && w.calm[n+1]
}
