package survey

import (
	"cmp"
	"iter"
	"slices"

	"bivium/core/lists"
)

// table is what there is of pairs of domains, by the first of them. Pairs of which there is
// nothing cost nothing.
type table[T any] []tableRow[T]

// tableRow is what there is of one domain with others, in their order.
type tableRow[T any] struct {
	with []int32
	is   []T
}

// pair is two domains.
type pair struct{ from, to int }

// tableOf returns the table of so many domains, in any order of the pairs; each is there
// once.
func tableOf[T any](domains int, pairs []pair, is []T) table[T] {
	order := lists.Below(len(pairs))
	slices.SortFunc(order, func(a, b int32) int {
		return cmp.Or(cmp.Compare(pairs[a].from, pairs[b].from), cmp.Compare(pairs[a].to, pairs[b].to))
	})
	t := make(table[T], domains)
	for _, i := range order {
		t[pairs[i].from].add(pairs[i].to, is[i])
	}
	return t
}

// add adds what there is with a domain that comes after all others.
func (r *tableRow[T]) add(with int, x T) {
	r.with, r.is = append(r.with, int32(with)), append(r.is, x)
}

// at returns what there is with a domain: the zero value for nothing.
func (r *tableRow[T]) at(with int) (x T) {
	if with < len(r.with) && int(r.with[with]) == with { // there is something with all up to it
		return r.is[with]
	}
	if i, there := slices.BinarySearch(r.with, int32(with)); there {
		return r.is[i]
	}
	return x
}

// at returns what there is of two domains: the zero value for nothing.
func (t table[T]) at(from, to int) T { return t[from].at(to) }

// all goes through everything that there is, in the order of the domains.
func (t table[T]) all() iter.Seq2[pair, T] {
	return func(yield func(pair, T) bool) {
		for from := range t {
			for i, to := range t[from].with {
				if !yield(pair{from, int(to)}, t[from].is[i]) {
					return
				}
			}
		}
	}
}

// pairs returns the pairs of which there is something.
func (t table[T]) pairs() []pair {
	var out []pair
	for p := range t.all() {
		out = append(out, p)
	}
	return out
}
