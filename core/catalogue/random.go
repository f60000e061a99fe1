package catalogue

import (
	"math"
	"strings"
)

// randomLooking tells names that look like keys struck at random. It is a model
// of which letter follows which, learnt from the names in data/names.txt, and
// cautious: short names, names with dots and anything the model finds merely
// unusual pass.
func randomLooking(base string) bool {
	if walks(base) {
		return true
	}
	letters := strings.TrimRight(base, digits)
	if len(letters) < 8 || strings.ContainsAny(letters, ".-_'") {
		return false
	}
	return likeness(letters) < randomBelow
}

// randomBelow was chosen so that of 100,000 pairs of names none falls below and
// of random strings of ten letters eight in ten do; a test holds both.
const randomBelow = -3.75

// longWalk is from how many keys in a row on a name is a walk over the keyboard.
const longWalk = 6

// walks reports a name that is struck along a row of keys, there or back, or in columns:
// qwertz, asdfgh, 123456qwe, qazwsx.
func walks(base string) bool {
	run, way, steps := 1, 0, 0
	for i := 1; i < len(base); i++ {
		a, b := keys[base[i-1]], keys[base[i]]
		step := b.col - a.col
		beside := a.row >= 0 && a.row == b.row && abs(step) == 1
		switch {
		case beside && step == way:
			run++
		case beside:
			run, way = 2, step
		default:
			run, way = 1, 0
		}
		if beside || a.row >= 0 && b.row >= 0 && abs(a.row-b.row) == 1 && step == 0 {
			steps++
		}
		if run >= longWalk {
			return true
		}
	}
	return len(base) >= longWalk && steps >= len(base)-2 && steps*4 >= (len(base)-1)*3
}

const alphabet = 27 // 26 letters, and everything else

var follows = learn()

// learn counts which letter follows which in the names, each pair once more
// than seen, as log probabilities.
func learn() (table [alphabet][alphabet]float64) {
	for name := range load("names") {
		for i := 1; i < len(name); i++ {
			table[place26(name[i-1])][place26(name[i])]++
		}
	}
	for i := range table {
		sum := 0.0
		for j := range table[i] {
			table[i][j] += 0.3
			sum += table[i][j]
		}
		for j := range table[i] {
			table[i][j] = math.Log(table[i][j] / sum)
		}
	}
	return table
}

func place26(c byte) int {
	if 'a' <= c && c <= 'z' {
		return int(c - 'a')
	}
	return 26
}

// likeness is the mean log probability of a name's letter pairs.
func likeness(name string) float64 {
	sum := 0.0
	for i := 1; i < len(name); i++ {
		sum += follows[place26(name[i-1])][place26(name[i])]
	}
	return sum / float64(len(name)-1)
}
