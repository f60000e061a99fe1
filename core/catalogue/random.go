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
	letters := strings.TrimRight(base, "0123456789")
	if len(letters) < 8 || strings.ContainsAny(letters, ".-_'") {
		return false
	}
	return likeness(letters) < randomBelow
}

// randomBelow was chosen so that of 100,000 pairs of names none falls below and
// of random strings of ten letters eight in ten do; a test holds both.
const randomBelow = -3.75

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
