package survey

import (
	"slices"

	"bivium/core/lists"

	"github.com/bits-and-blooms/bitset"
)

// sets returns the flows of the change, as destinations that the same sources reach.
func (c *Change) sets() []patch {
	c.gathered.once.Do(c.gathered.patch)
	return c.gathered.patches
}

// patch puts destinations that the same sources reach together.
func (c *change) patch() {
	at := map[string]int{}
	sources, targets := uint(len(c.comparer.land(c.at[0]).joints)), uint(len(c.comparer.land(c.at[1]).joints))
	put := func(from *bitset.BitSet) int {
		key := lists.BitsKey(from)
		i, ok := at[key]
		if !ok {
			i = len(c.patches)
			at[key] = i
			c.patches = append(c.patches, patch{from, bitset.New(targets)})
		}
		return i
	}
	reached := map[*bundle][]*bundle{} // by destination: the sources
	for r := range c.reaches() {
		for _, dst := range r.dsts {
			reached[dst] = append(reached[dst], r.srcs...)
		}
	}
	said := func(list []*bundle) *bitset.BitSet {
		from := bitset.New(sources)
		for _, src := range list {
			for _, i := range src.joints {
				from.Set(uint(i))
			}
		}
		return from
	}
	amended := map[int32]bool{}
	for d, amends := range c.amends {
		from := said(reached[d.bundle])
		for _, a := range amends {
			for _, i := range a.from.joints {
				from.SetTo(uint(i), a.in)
			}
		}
		for _, k := range d.joints {
			amended[k] = true
		}
		if from.Any() {
			p := put(from)
			for _, k := range d.joints {
				c.patches[p].to.Set(uint(k))
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
		for _, k := range b.joints {
			if !amended[k] {
				c.patches[p].to.Set(uint(k))
			}
		}
	}
	for k, from := range c.single {
		c.patches[put(from)].to.Set(uint(k))
	}
	c.patches = slices.DeleteFunc(c.patches, func(p patch) bool { return p.to.None() })
	slices.SortFunc(c.patches, func(a, b patch) int {
		x, _ := a.to.NextSet(0)
		y, _ := b.to.NextSet(0)
		return int(x) - int(y)
	})
}
