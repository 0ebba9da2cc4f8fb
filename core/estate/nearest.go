package estate

import "maps"

// Nearest returns the key of known that is spelled most like word, or "" if
// none is near: at most a third of the letters may differ. Among equals it is
// the first in order.
func Nearest[V any](word string, known map[string]V) string {
	best, bestDistance := "", 1+len(word)/3
	for name := range maps.Keys(known) {
		if d := editDistance(word, name, bestDistance); d < bestDistance || d == bestDistance && best != "" && name < best {
			best, bestDistance = name, d
		}
	}
	return best
}

// editDistance returns the number of letters to insert, remove, replace, or
// exchange with a neighbour to turn a into b (Damerau, 1964, in the form where
// no letter is touched twice), or any number above limit if the lengths alone
// say so. Cost: O(len(a)·len(b)).
func editDistance(a, b string, limit int) int {
	if len(a)-len(b) > limit || len(b)-len(a) > limit {
		return limit + 1
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := range len(a) {
		row[0] = i + 1
		for j := range len(b) {
			replace := last[j]
			if a[i] != b[j] {
				replace++
			}
			row[j+1] = min(replace, last[j+1]+1, row[j]+1)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
