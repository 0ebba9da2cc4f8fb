package survey

import (
	"github.com/bits-and-blooms/bitset"

	"bivium/core/paths"
)

// column is all strands of a cell that have one vector and one mask.
type column struct {
	strand                  // one of them: between workloads, if any is
	src, dst Member         // its ends
	told     int            // how good a witness they make; 0 for none yet
	pairs    tally          // of addresses
	from, to *bitset.BitSet // the members on either side, by place in their set
}

// columns returns the strands from some endpoints to others, those alike as one.
func (s *Survey) columns(from, to Set) []column {
	g := &gatherer{Survey: s, fromSet: from, toSet: to, at: map[columnKey]int{}}
	for _, src := range s.sidesOf(from) {
		for _, dst := range s.sidesOf(to) {
			g.add(&src, &dst)
		}
	}
	var out []column
	for i := range g.out {
		if !g.out[i].pairs.zero() {
			out = append(out, g.out[i])
		}
	}
	return out
}

type columnKey struct {
	vector      int32
	publication int
	mask        string // of a shut door
}

// gatherer gathers the columns of a cell.
type gatherer struct {
	*Survey
	fromSet, toSet Set
	at             map[columnKey]int
	out            []column
	buckets        buckets
}

// column returns the number of the column of a strand.
func (g *gatherer) column(t strand) int {
	key := columnKey{vector: t.vector, publication: t.publication}
	if t.mask != nil && t.publication == paths.None {
		key.mask = t.mask.String()
	}
	n, ok := g.at[key]
	if !ok {
		n = len(g.out)
		g.at[key] = n
		g.out = append(g.out, column{strand: t, from: bitset.New(uint(len(g.fromSet))), to: bitset.New(uint(len(g.toSet)))})
	}
	return n
}

func (g *gatherer) add(src, dst *side) {
	if src.domain == len(g.inside) {
		g.addDoors(src, dst)
		return
	}
	if src.domain != dst.domain {
		g.addUnfound(src, dst)
	}
	b := g.blocks[src.domain][dst.domain]
	if b == nil {
		return
	}
	sources, targets := g.sources(b, g.fromSet, src.members), g.targets(b, g.toSet, dst.members)
	amounts := make([]size, len(targets))
	for k := range targets {
		amounts[k] = g.amounts(g.toSet, targets[k].which)
	}
	near := src.domain == dst.domain
	whole := map[int]*bitset.BitSet{} // by column: the lots of destinations that are in it wholly
	for i := range sources {
		l := &sources[i]
		amount := g.amounts(g.fromSet, l.which)
		g.eachBatch(b, l, targets, &g.buckets, func(x combination, dsts []int32) {
			n := g.column(strand{paths.None, g.verdicts[x.effect][x.stance], nil, x})
			c := &g.out[n]
			var sum size
			for _, k := range dsts {
				sum.add(amounts[k])
			}
			c.pairs.product(amount, sum, 1)
			if whole[n] == nil {
				whole[n] = bitset.New(uint(len(targets)))
			}
			g.note(c, x, l, targets, dsts, near, whole[n])
		})
	}
	for n, lots := range whole {
		for k := range lots.EachSet() {
			for _, m := range targets[k].which {
				g.out[n].to.Set(uint(m))
			}
		}
	}
	if near {
		g.addNear(b, src, dst)
	}
}

func (s *Survey) amounts(set Set, members []int32) size {
	var sum size
	for _, i := range members {
		sum.add(s.amount(set[i]))
	}
	return sum
}

// note notes the members of a batch that are in a column, and a better witness.
// Where the ways between members of one network are local, a member counts only
// if there is one of another network on the other side.
func (g *gatherer) note(c *column, x combination, l *lot, targets []lot, dsts []int32, near bool, whole *bitset.BitSet) {
	sole := targets[dsts[0]].sole
	for _, k := range dsts {
		if targets[k].sole != sole {
			sole = paths.None
		}
	}
	for _, i := range l.which {
		if !near || sole == paths.None || g.network(g.fromSet[i]) != sole {
			c.from.Set(uint(i))
		}
	}
	best := 0
	for _, k := range dsts {
		best = max(best, g.tellingOf(g.toSet, targets[k].which))
		if !near || l.sole == paths.None || targets[k].sole == paths.None {
			whole.Set(uint(k))
			continue
		}
		if targets[k].sole != l.sole {
			whole.Set(uint(k))
		}
	}
	if near && l.sole != paths.None {
		g.noteMixed(c, l, targets, dsts, whole)
	}
	if 1+best+g.tellingOf(g.fromSet, l.which) > c.told {
		g.exemplify(c, x, l.which, targets, dsts, near)
	}
}

// noteMixed notes destinations of lots that have several networks, the source's
// among them.
func (g *gatherer) noteMixed(c *column, l *lot, targets []lot, dsts []int32, whole *bitset.BitSet) {
	for _, k := range dsts {
		if targets[k].sole != paths.None {
			continue
		}
		whole.Clear(uint(k))
		for _, m := range targets[k].which {
			if g.network(g.toSet[m]) != l.sole {
				c.to.Set(uint(m))
			}
		}
	}
}

func (g *gatherer) network(m Member) int { return g.classes[m.Class].End.Home.Network }

// tellingOf returns 1 if some of the members are workloads.
func (g *gatherer) tellingOf(set Set, members []int32) int {
	for _, i := range members {
		if len(g.classes[set[i].Class].Workloads) > 0 {
			return 1
		}
	}
	return 0
}

// exemplify finds two members of a batch that have a flow, and make the best
// witness.
func (g *gatherer) exemplify(c *column, x combination, src []int32, targets []lot, dsts []int32, near bool) {
	for want := 3; want > c.told; want-- {
		for _, srcTells := range []bool{true, false} {
			if dstTells := want == 3 || want == 2 && !srcTells; want > 1 || !srcTells {
				if a, b, ok := g.twoOf(src, targets, dsts, srcTells, dstTells, near); ok {
					c.strand.combination, c.src, c.dst, c.told = x, g.fromSet[a], g.toSet[b], want
					return
				}
			}
		}
	}
}

// twoOf returns a member of either side, workloads where that is asked for; if
// near, of two networks.
func (g *gatherer) twoOf(src []int32, targets []lot, dsts []int32, srcTells, dstTells, near bool) (a, b int32, ok bool) {
	fits := func(m Member, tells bool) bool { return !tells || len(g.classes[m.Class].Workloads) > 0 }
	first, other := int32(-1), int32(-1) // two sources, of two networks
	for _, i := range src {
		switch {
		case !fits(g.fromSet[i], srcTells):
		case first < 0:
			first = i
		case g.network(g.fromSet[i]) != g.network(g.fromSet[first]):
			other = i
		}
		if other >= 0 {
			break
		}
	}
	if first < 0 {
		return 0, 0, false
	}
	for _, k := range dsts {
		for _, m := range targets[k].which {
			switch {
			case !fits(g.toSet[m], dstTells):
			case !near || g.network(g.toSet[m]) != g.network(g.fromSet[first]):
				return first, m, true
			case other >= 0:
				return other, m, true
			}
		}
	}
	return 0, 0, false
}

// addNear moves the pairs of one network to the columns of local ways.
func (g *gatherer) addNear(b *block, src, dst *side) {
	g.eachNear(g.fromSet, src.members, g.toSet, dst.members, func(i, k int32) {
		x, y := g.fromSet[i], g.toSet[k]
		near, far := g.nearCombination(b, g.classes[x.Class], g.classes[y.Class])
		if far.effect != noEffect {
			c := &g.out[g.column(strand{paths.None, g.verdicts[far.effect][far.stance], nil, far})]
			c.pairs.product(g.amount(x), g.amount(y), -1)
		}
		if g.selfless(x, y) {
			g.addPair(i, k, strand{paths.None, g.verdicts[near.effect][near.stance], nil, near})
		}
	})
}

// addPair adds the flows of one strand between two members.
func (g *gatherer) addPair(i, k int32, t strand) {
	x, y := g.fromSet[i], g.toSet[k]
	c := &g.out[g.column(t)]
	g.count(&c.pairs, x, y)
	c.from.Set(uint(i))
	c.to.Set(uint(k))
	if told := 1 + g.telling(x, y); told > c.told {
		c.strand, c.src, c.dst, c.told = t, x, y, told
	}
}

// count adds the pairs of addresses from one member to another.
func (s *Survey) count(t *tally, a, b Member) {
	x, y := s.amount(a), s.amount(b)
	switch {
	case s.classes[a.Class].Internal() && a.Class != b.Class:
		t.product(x, y, 1)
	default:
		t.addLarge(s.pairs(a, b))
	}
}

// addUnfound adds the flows to addresses that the source's segment finds nothing
// under, as one batch for each family.
func (g *gatherer) addUnfound(src, dst *side) {
	for _, four := range []bool{true, false} {
		var out, in []int32
		for _, i := range src.members {
			if g.classes[g.fromSet[i].Class].four == four {
				out = append(out, i)
			}
		}
		for _, k := range dst.members {
			if y := g.classes[g.toSet[k].Class]; y.four == four && y.seen[src.domain] == seesNothing {
				in = append(in, k)
			}
		}
		if len(out) == 0 || len(in) == 0 {
			continue
		}
		c := &g.out[g.column(strand{paths.None, 0, nil, unfoundCombination})]
		c.pairs.product(g.amounts(g.fromSet, out), g.amounts(g.toSet, in), 1)
		for _, i := range out {
			c.from.Set(uint(i))
		}
		for _, k := range in {
			c.to.Set(uint(k))
		}
		g.exemplify(c, unfoundCombination, out, []lot{{which: in}}, []int32{0}, false)
	}
}

func (g *gatherer) addDoors(src, dst *side) {
	for _, i := range src.members {
		for _, k := range dst.members {
			if g.selfless(g.fromSet[i], g.toSet[k]) {
				g.eachStrand(g.fromSet[i].Class, g.toSet[k].Class, func(t strand) { g.addPair(i, k, t) })
			}
		}
	}
}
