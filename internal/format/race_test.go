//go:build race

package format_test

// raced: under the race detector a process has more memory than it asks for.
const raced = true
