package fault_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"varnet/core/fault"
)

func ExampleKeeper() {
	var faults fault.Keeper
	defer func() {
		told, _, _ := strings.Cut(fmt.Sprint(recover()), "\n")
		fmt.Println("one parcel ends:", told)
	}()
	var wg sync.WaitGroup
	wg.Go(func() {
		defer faults.Keep()
		panic("a place beyond the end")
	})
	wg.Wait()
	faults.Throw()
	// Output: one parcel ends: a place beyond the end
}

// TestKeeper: the others come to their end, and where nothing went wrong nothing is thrown; what is thrown says where it
// came about.
func TestKeeper(t *testing.T) {
	var faults fault.Keeper
	var wg sync.WaitGroup
	done := make([]bool, 10)
	for i := range done {
		wg.Go(func() {
			defer faults.Keep()
			if i == 3 {
				beyond(done)
			}
			done[i] = true
		})
	}
	wg.Wait()
	for i, ended := range done {
		if ended != (i != 3) {
			t.Errorf("goroutine %d came to its end: %v", i, ended)
		}
	}
	defer func() {
		if told := fmt.Sprint(recover()); !strings.Contains(told, "index out of range [10]") || !strings.Contains(told, "fault_test.beyond") {
			t.Errorf("the fault does not say what and where: %s", told)
		}
	}()
	new(fault.Keeper).Throw()
	faults.Throw()
	t.Error("the fault was not thrown")
}

//go:noinline
func beyond(done []bool) { done[len(done)] = true }
