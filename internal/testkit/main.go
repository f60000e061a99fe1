package testkit

import (
	"fmt"
	"slices"
	"testing"
)

// Main runs a package's tests and examples with what start starts for all of them, and
// returns the exit code. Examples have no testing.T of their own.
func Main(m *testing.M, start func(testing.TB)) int {
	w := &whole{}
	defer w.end()
	start(w)
	return m.Run()
}

// whole is what stands for a test where all of a package share something.
type whole struct {
	testing.TB
	cleanups []func()
}

func (w *whole) Helper() {}

func (w *whole) Failed() bool { return false }

func (w *whole) Cleanup(f func()) { w.cleanups = append(w.cleanups, f) }

func (w *whole) Fatal(args ...any) { panic(fmt.Sprint(args...)) }

func (w *whole) Fatalf(format string, args ...any) { panic(fmt.Sprintf(format, args...)) }

func (w *whole) end() {
	for _, f := range slices.Backward(w.cleanups) {
		f()
	}
}
