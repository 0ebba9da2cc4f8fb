package difference

import (
	"cmp"
	"slices"
	"strings"

	"bivium/core/matrix"
	"bivium/core/parallel"
)

// finish returns the changes in order: those from one aligned domain to another are found
// together, and aligned domains stand in their order.
func (c *comparer) finish(found [][]*change) []Change {
	all := slices.Concat(found...)
	ranks := c.ranksOf(all)
	parallel.Shares(len(all), min(len(all), manyShares), func(_, first, last int) {
		for _, x := range all[first:last] {
			x.Pairs = x.pairs.Total()
			if x.Pairs.Sign() <= 0 {
				continue // each of its flows has been taken away again
			}
			x.gathered = x
			for i, n := range x.results {
				x.rank[i] = ranks[n+1]
			}
		}
	})
	jobs := make([]func(), len(found))
	for i := range found {
		jobs[i] = func() {
			found[i] = slices.DeleteFunc(found[i], func(x *change) bool { return x.Pairs.Sign() <= 0 })
			slices.SortFunc(found[i], compareChanges)
		}
	}
	parallel.Run(jobs)
	out := make([]Change, 0, len(all))
	for _, list := range found {
		for _, x := range list {
			out = append(out, x.Change)
		}
	}
	return out
}

// manyShares is in how many shares work is cut of which some pieces are much larger
// than others, and are often neighbours.
const manyShares = 64

// ranksOf returns the ranks of the verdicts that changes are from and to: that of no flow
// first, then by result.
func (c *comparer) ranksOf(changes []*change) []int {
	used := make([]bool, len(c.results)+1)
	for _, x := range changes {
		used[x.results[0]+1], used[x.results[1]+1] = true, true
	}
	var list []int32
	keys := make([]string, len(used))
	for n, is := range used {
		if !is {
			continue
		}
		list = append(list, int32(n))
		if n == 0 {
			keys[0] = matrix.VerdictKey(nil)
		} else {
			keys[n] = matrix.VerdictKey(c.results[n-1])
		}
	}
	slices.SortFunc(list, func(a, b int32) int { return strings.Compare(keys[a], keys[b]) })
	out := make([]int, len(used))
	for rank, n := range list {
		out[n] = rank
	}
	return out
}

// compareChanges orders changes from one aligned domain to another.
func compareChanges(a, b *change) int {
	for i := range a.rank { // one after the other: nearly all differ in the first
		if d := a.rank[i] - b.rank[i]; d != 0 {
			return d
		}
	}
	if d := strings.Compare(a.Publication, b.Publication); d != 0 {
		return d
	}
	if d := cmp.Compare(a.union.Count, b.union.Count); d != 0 {
		return d
	}
	if d := a.Pairs.Cmp(b.Pairs); d != 0 {
		return d
	}
	return a.union.Compare(b.union)
}
