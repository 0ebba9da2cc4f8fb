package difference

import (
	"slices"

	"bivium/core/lists"

	"github.com/bits-and-blooms/bitset"
)

// Sets returns the flows of the change, as destinations that the same sources reach.
func (c *Change) Sets() []SourcesByDestinations {
	c.gathered.once.Do(c.gathered.patch)
	return c.gathered.patches
}

// patch puts destinations that the same sources reach together.
func (c *change) patch() {
	at := map[string]int{}
	sources, targets := uint(len(c.comparer.Domain(c.At[0]).Intersections)), uint(len(c.comparer.Domain(c.At[1]).Intersections))
	put := func(from *bitset.BitSet) int {
		key := lists.BitsKey(from)
		i, ok := at[key]
		if !ok {
			i = len(c.patches)
			at[key] = i
			c.patches = append(c.patches, SourcesByDestinations{from, bitset.New(targets)})
		}
		return i
	}
	reached := map[*diffClass][]*diffClass{} // by destination: the sources
	for r := range c.reaches() {
		for _, dst := range r.dsts {
			reached[dst] = append(reached[dst], r.srcs...)
		}
	}
	said := func(list []*diffClass) *bitset.BitSet {
		from := bitset.New(sources)
		for _, src := range list {
			for _, i := range src.intersections {
				from.Set(uint(i))
			}
		}
		return from
	}
	corrected := map[int32]bool{}
	for d, amends := range c.corrections {
		from := said(reached[d.bundle])
		for _, a := range amends {
			for _, i := range a.from.intersections {
				from.SetTo(uint(i), a.in)
			}
		}
		for _, k := range d.intersections {
			corrected[k] = true
		}
		if from.Any() {
			p := put(from)
			for _, k := range d.intersections {
				c.patches[p].To.Set(uint(k))
			}
		}
	}
	alike := map[string]int{} // by the sources: a patch
	for b, list := range reached {
		var numbers []int32
		for _, src := range list {
			numbers = append(numbers, int32(src.at))
		}
		slices.Sort(numbers)
		key := lists.Key32(numbers)
		p, ok := alike[key]
		if !ok {
			p = put(said(list))
			alike[key] = p
		}
		for _, k := range b.intersections {
			if !corrected[k] {
				c.patches[p].To.Set(uint(k))
			}
		}
	}
	for k, from := range c.single {
		c.patches[put(from)].To.Set(uint(k))
	}
	c.patches = slices.DeleteFunc(c.patches, func(p SourcesByDestinations) bool { return p.To.None() })
	slices.SortFunc(c.patches, func(a, b SourcesByDestinations) int {
		x, _ := a.To.NextSet(0)
		y, _ := b.To.NextSet(0)
		return int(x) - int(y)
	})
}
