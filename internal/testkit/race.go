//go:build race

package testkit

// buildFlags build the binary like the tests that drive it.
var buildFlags = []string{"-race"}
