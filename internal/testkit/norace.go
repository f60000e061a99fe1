//go:build !race

package testkit

var buildFlags []string
