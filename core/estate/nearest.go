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

// editDistance returns the number of letters to insert, remove or replace to
// turn a into b (Wagner and Fischer, 1974), or any number above limit if it is
// more than limit. Cost: O(len(a)·len(b)).
func editDistance(a, b string, limit int) int {
	if len(a)-len(b) > limit || len(b)-len(a) > limit {
		return limit + 1
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			replace := diagonal
			if a[i] != b[j] {
				replace++
			}
			diagonal = row[j+1]
			row[j+1] = min(replace, row[j]+1, diagonal+1)
		}
	}
	return row[len(b)]
}
