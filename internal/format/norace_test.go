//go:build !race

package format_test

const raced = false
