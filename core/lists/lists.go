// Package lists has what several packages of the core ask of lists of numbers.
package lists

import (
	"cmp"
	"encoding/binary"
	"slices"
	"strings"

	"github.com/bits-and-blooms/bitset"
)

// Same reports whether two lists are one and the same: of one length, in one place.
func Same[T any](a, b []T) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }

// Below returns the numbers from 0 to below n.
func Below(n int) []int32 {
	out := make([]int32, n)
	for i := range out {
		out[i] = int32(i)
	}
	return out
}

// Key returns a string that is equal for equal lists of numbers from 0 on.
func Key(numbers []int) string {
	b := make([]byte, 0, 2*len(numbers))
	for _, n := range numbers {
		b = binary.AppendUvarint(b, uint64(n))
	}
	return string(b)
}

// Key32 is Key for lists of any numbers of 32 bits.
func Key32(numbers []int32) string {
	key := make([]byte, 0, 4*len(numbers))
	for _, n := range numbers {
		key = binary.LittleEndian.AppendUint32(key, uint32(n))
	}
	return string(key)
}

// BitsKey returns a string that is equal for sets of one length with the same members.
func BitsKey(set *bitset.BitSet) string {
	words := set.Words()
	key := make([]byte, 0, 8*len(words))
	for _, w := range words {
		key = binary.LittleEndian.AppendUint64(key, w)
	}
	return string(key)
}

// OneIf returns 1 for true and 0 for false, as a place in a list of two.
func OneIf(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Sorted sorts a list, and returns it without repetitions.
func Sorted(s []int) []int {
	slices.Sort(s)
	return slices.Compact(s)
}

// ByName returns things in the order of their names: the list itself, if it is so.
func ByName[T any](things []T, name func(*T) string) []T {
	order := make([]int, len(things))
	for i := range order {
		order[i] = i
	}
	byName := func(a, b int) int {
		return cmp.Or(strings.Compare(name(&things[a]), name(&things[b])), cmp.Compare(a, b))
	}
	if slices.IsSortedFunc(order, byName) {
		return things
	}
	slices.SortFunc(order, byName)
	sorted := make([]T, len(things))
	for i, at := range order {
		sorted[i] = things[at]
	}
	return sorted
}
