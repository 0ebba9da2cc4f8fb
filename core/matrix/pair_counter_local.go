package matrix

import (
	"net/netip"
	"slices"

	"bivium/core/classes"
	"bivium/core/lists"
)

// NetworkBucket is the members of a network, or of one of its parts, that a block does not
// tell apart.
type NetworkBucket struct {
	network int
	part    int32 // see header
	Kind
	four bool
	classes.Amount
}

// NetworkBuckets returns some members of a segment as residents of their networks.
func (s *Matrix) NetworkBuckets(x *Side, set Set, members []int32) []NetworkBucket {
	out := make([]NetworkBucket, len(members))
	for at, i := range members {
		c := s.Classes[set[i].Class]
		out[at] = NetworkBucket{c.End.Home.Network, c.Part, Kind{x.Line(&c.Header), x.Place(&c.Header)}, c.Four, classes.Amount{Members: 1, Weight: s.weight(set[i])}}
	}
	return mergeBuckets(out)
}

// AllNetworkBuckets returns all endpoints of a segment as residents of their networks.
func (s *Matrix) AllNetworkBuckets(x *Side, segment int) []NetworkBucket {
	roll := s.Columns(segment)
	out := make([]NetworkBucket, len(roll.Headers))
	for at := range out {
		c := &roll.Headers[at]
		out[at] = NetworkBucket{int(c.Network), c.Part, Kind{x.Line(c), x.Place(c)}, roll.Four[at], roll.Members[at]}
	}
	return mergeBuckets(out)
}

// mergeBuckets puts residents in order of their networks and families, those that are
// alike together.
func mergeBuckets(out []NetworkBucket) []NetworkBucket {
	slices.SortFunc(out, func(a, b NetworkBucket) int {
		switch {
		case a.network != b.network:
			return a.network - b.network
		case a.four != b.four:
			return lists.OneIf(a.four) - lists.OneIf(b.four)
		case a.part != b.part:
			return int(a.part - b.part)
		case a.Line != b.Line:
			return int(a.Line - b.Line)
		}
		return int(a.Place - b.Place)
	})
	n := 0
	for i := range out {
		if last := max(n-1, 0); n > 0 && out[i].network == out[last].network && out[i].four == out[last].four && out[i].part == out[last].part && out[i].Kind == out[last].Kind {
			out[last].Add(out[i].Amount)
			continue
		}
		out[n] = out[i]
		n++
	}
	return out[:n]
}

// AddNear moves the pairs of one network and family from the combinations of hub
// paths to those of local ones, an address and itself among them.
func (c *PairCounter) AddNear(b *Block, from, to []NetworkBucket) {
	a := newAdder(b)
	next := 0
	for first := 0; first < len(from); {
		x := &from[first]
		last := first + 1
		for last < len(from) && from[last].network == x.network && from[last].four == x.four {
			last++
		}
		before := func(y *NetworkBucket) bool {
			return y.network < x.network || y.network == x.network && !y.four && x.four
		}
		for next < len(to) && before(&to[next]) {
			next++
		}
		end := next
		for end < len(to) && to[end].network == x.network && to[end].four == x.four {
			end++
		}
		eachPart(from[first:last], func(src []NetworkBucket) {
			eachPart(to[next:end], func(dst []NetworkBucket) {
				c.addNeighbours(b, a, src, dst, b.Near[lists.OneIf(c.Net.EnforcesLocally(x.network, src[0].part == dst[0].part))])
			})
		})
		first, next = last, end
	}
}

// eachPart calls f for the residents of each part of one network and family.
func eachPart(all []NetworkBucket, f func([]NetworkBucket)) {
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
func (c *PairCounter) addNeighbours(b *Block, a *rowAdder, from, to []NetworkBucket, near int32) {
	places := map[int32][]rowBuckets{}
	for i := range to {
		places[to[i].Place] = append(places[to[i].Place], rowBuckets{to[i].Line, to[i].Amount})
	}
	for _, place := range sortedKeys(places) {
		for i := range from {
			r := &b.Rows[from[i].Line]
			far := b.Effects[from[i].Place][place]
			a.addUp(r, places[place])
			for _, cell := range a.used {
				pairs, flows := from[i].Members*a.cells[cell].Members, from[i].Weight*a.cells[cell].Weight
				if far != NoEffect {
					c.count(Combination{r.Palette[cell], far}, -pairs, -flows)
				}
				c.count(Combination{r.Palette[cell], near}, pairs, flows)
			}
			a.used = a.used[:0]
		}
	}
}

// takeSelves takes away the flows from an address to itself: there are none.
func (c *PairCounter) takeSelves(b *Block, from Set, src []int32, to Set, dst []int32) {
	singles := map[netip.Addr]bool{}
	for _, k := range dst {
		if a := c.single(to[k]); a.IsValid() {
			singles[a] = true
		}
	}
	for _, i := range src {
		a := c.single(from[i])
		if a.IsValid() && singles[a] {
			c.TakeSelf(b, c.Classes[from[i].Class])
		}
	}
}

// TakeSelf takes away the flows from an address of a class to itself.
func (c *PairCounter) TakeSelf(b *Block, x *classes.Class) {
	near, _ := c.NearCombination(b, x, x)
	c.count(near, -1, -1)
}
