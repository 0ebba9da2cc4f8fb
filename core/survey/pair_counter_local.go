package survey

import (
	"cmp"
	"net/netip"
	"slices"

	"bivium/core/lists"
)

// resident is the members of a network, or of one of its parts, that a block does not
// tell apart.
type resident struct {
	network int
	part    int32 // see ticket
	kind
	four bool
	bulk
}

// residents returns some members of a segment as residents of their networks.
func (s *Survey) residents(x *axis, set Set, members []int32) []resident {
	out := make([]resident, len(members))
	for at, i := range members {
		c := s.classes[set[i].Class]
		out[at] = resident{c.End.Home.Network, c.part, kind{x.line(&c.ticket), x.place(&c.ticket)}, c.four, bulk{1, s.weight(set[i])}}
	}
	return housed(out)
}

// allResidents returns all endpoints of a segment as residents of their networks.
func (s *Survey) allResidents(x *axis, segment int) []resident {
	roll := s.roll(segment)
	out := make([]resident, len(roll.tickets))
	for at := range out {
		c := &roll.tickets[at]
		out[at] = resident{int(c.network), c.part, kind{x.line(c), x.place(c)}, roll.four[at], roll.members[at]}
	}
	return housed(out)
}

// housed puts residents in order of their networks and families, those that are
// alike together.
func housed(out []resident) []resident {
	slices.SortFunc(out, func(a, b resident) int {
		return cmp.Or(a.network-b.network, lists.OneIf(a.four)-lists.OneIf(b.four), int(a.part-b.part), int(a.line-b.line), int(a.place-b.place))
	})
	n := 0
	for i := range out {
		if last := max(n-1, 0); n > 0 && out[i].network == out[last].network && out[i].four == out[last].four && out[i].part == out[last].part && out[i].kind == out[last].kind {
			out[last].add(out[i].bulk)
			continue
		}
		out[n] = out[i]
		n++
	}
	return out[:n]
}

// addNear moves the pairs of one network and family from the combinations of hub
// paths to those of local ones, an address and itself among them.
func (c *pairCounter) addNear(b *block, from, to []resident) {
	a := newAdder(b)
	next := 0
	for first := 0; first < len(from); {
		x := &from[first]
		last := first + 1
		for last < len(from) && from[last].network == x.network && from[last].four == x.four {
			last++
		}
		before := func(y *resident) bool {
			return y.network < x.network || y.network == x.network && !y.four && x.four
		}
		for next < len(to) && before(&to[next]) {
			next++
		}
		end := next
		for end < len(to) && to[end].network == x.network && to[end].four == x.four {
			end++
		}
		eachPart(from[first:last], func(src []resident) {
			eachPart(to[next:end], func(dst []resident) {
				c.addNeighbours(b, a, src, dst, b.near[lists.OneIf(c.net.EnforcesLocally(x.network, src[0].part == dst[0].part))])
			})
		})
		first, next = last, end
	}
}

// eachPart calls f for the residents of each part of one network and family.
func eachPart(all []resident, f func([]resident)) {
	for first := 0; first < len(all); {
		last := first + 1
		for last < len(all) && all[last].part == all[first].part {
			last++
		}
		f(all[first:last])
		first = last
	}
}

// addNeighbours is addNear for one network, family and part of either side, with the effect
// of the local paths between them.
func (c *pairCounter) addNeighbours(b *block, a *adder, from, to []resident, near int32) {
	places := map[int32][]heap{}
	for i := range to {
		places[to[i].place] = append(places[to[i].place], heap{to[i].line, to[i].bulk})
	}
	for _, place := range sortedKeys(places) {
		for i := range from {
			r := &b.rows[from[i].line]
			far := b.effects[from[i].place][place]
			a.addUp(r, places[place])
			for _, cell := range a.used {
				pairs, flows := from[i].members*a.cells[cell].members, from[i].weight*a.cells[cell].weight
				if far != noEffect {
					c.count(combination{r.palette[cell], far}, -pairs, -flows)
				}
				c.count(combination{r.palette[cell], near}, pairs, flows)
			}
			a.used = a.used[:0]
		}
	}
}

// takeSelves takes away the flows from an address to itself: there are none.
func (c *pairCounter) takeSelves(b *block, from Set, src []int32, to Set, dst []int32) {
	singles := map[netip.Addr]bool{}
	for _, k := range dst {
		if a := c.single(to[k]); a.IsValid() {
			singles[a] = true
		}
	}
	for _, i := range src {
		a := c.single(from[i])
		if a.IsValid() && singles[a] {
			c.takeSelf(b, c.classes[from[i].Class])
		}
	}
}

// takeSelf takes away the flows from an address of a class to itself.
func (c *pairCounter) takeSelf(b *block, x *Class) {
	near, _ := c.nearCombination(b, x, x)
	c.count(near, -1, -1)
}
