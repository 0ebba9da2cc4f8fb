package classes

import (
	"cmp"
	"iter"
	"slices"

	"bivium/core/lists"
)

// Table is what there is of pairs of domains, by the first of them. Pairs of which there is
// nothing cost nothing.
type Table[T any] []tableRow[T]

// tableRow is what there is of one domain with others, in their order.
type tableRow[T any] struct {
	With []int32
	Is   []T
}

// Pair is two domains.
type Pair struct{ From, To int }

// TableOf returns the table of so many domains, in any order of the pairs; each is there
// once.
func TableOf[T any](domains int, pairs []Pair, is []T) Table[T] {
	order := lists.Below(len(pairs))
	slices.SortFunc(order, func(a, b int32) int {
		return cmp.Or(cmp.Compare(pairs[a].From, pairs[b].From), cmp.Compare(pairs[a].To, pairs[b].To))
	})
	t := make(Table[T], domains)
	for _, i := range order {
		t[pairs[i].From].add(pairs[i].To, is[i])
	}
	return t
}

// add adds what there is with a domain that comes after all others.
func (r *tableRow[T]) add(with int, x T) {
	r.With, r.Is = append(r.With, int32(with)), append(r.Is, x)
}

// at returns what there is with a domain: the zero value for nothing.
func (r *tableRow[T]) at(with int) (x T) {
	if with < len(r.With) && int(r.With[with]) == with { // there is something with all up to it
		return r.Is[with]
	}
	if i, there := slices.BinarySearch(r.With, int32(with)); there {
		return r.Is[i]
	}
	return x
}

// At returns what there is of two domains: the zero value for nothing.
func (t Table[T]) At(from, to int) T { return t[from].at(to) }

// All goes through everything that there is, in the order of the domains.
func (t Table[T]) All() iter.Seq2[Pair, T] {
	return func(yield func(Pair, T) bool) {
		for from := range t {
			for i, to := range t[from].With {
				if !yield(Pair{from, int(to)}, t[from].Is[i]) {
					return
				}
			}
		}
	}
}

// Pairs returns the pairs of which there is something.
func (t Table[T]) Pairs() []Pair {
	var out []Pair
	for p := range t.All() {
		out = append(out, p)
	}
	return out
}
