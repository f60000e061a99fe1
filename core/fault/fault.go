// Package fault has a fault in one of several goroutines end what waits for them, and not the process.
//
//	var faults fault.Keeper
//	wg.Go(func() { defer faults.Keep(); work() })
//	wg.Wait()
//	faults.Throw()
package fault

import (
	"fmt"
	"runtime/debug"
	"sync"
)

// Keeper keeps the first fault of some goroutines. Its zero value has none.
type Keeper struct {
	mu   sync.Mutex
	told string
}

// Keep is to be deferred in each of the goroutines: a panic ends that goroutine alone, and is kept with where it came about.
func (k *Keeper) Keep() {
	f := recover()
	if f == nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.told == "" {
		k.told = fmt.Sprintf("%v\n\n%s", f, debug.Stack())
	}
}

// Throw panics with what was kept, if anything was. It is called when all goroutines have ended.
func (k *Keeper) Throw() {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.told != "" {
		panic(k.told)
	}
}
