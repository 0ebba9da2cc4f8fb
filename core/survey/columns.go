package survey

import (
	"runtime"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/parallel"
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
	g := s.gatherer(from, to)
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

func (s *Survey) gatherer(from, to Set) *gatherer {
	return &gatherer{Survey: s, fromSet: from, toSet: to, at: map[columnKey]int{}, plain: make([]int32, len(s.vectors))}
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
	plain          []int32 // by vector: the column that no publication and no door is about, from 1
	out            []column
	buckets        buckets
}

// column returns the number of the column of a strand.
func (g *gatherer) column(t strand) int {
	if t.publication == paths.None && t.mask == nil {
		if g.plain[t.vector] == 0 {
			g.plain[t.vector] = int32(g.another(t)) + 1
		}
		return int(g.plain[t.vector]) - 1
	}
	key := columnKey{vector: t.vector, publication: t.publication}
	if t.mask != nil && t.publication == paths.None {
		key.mask = t.mask.String()
	}
	n, ok := g.at[key]
	if !ok {
		n = g.another(t)
		g.at[key] = n
	}
	return n
}

// another returns the number of a new column.
func (g *gatherer) another(t strand) int {
	g.out = append(g.out, column{strand: t, from: bitset.New(uint(len(g.fromSet))), to: bitset.New(uint(len(g.toSet)))})
	return len(g.out) - 1
}

func (g *gatherer) add(src, dst *side) {
	if src.domain == len(g.inside) {
		g.addDoors(src, dst)
		return
	}
	if src.domain != dst.domain {
		g.addUnfound(src, dst)
	}
	b := g.blocks.at(src.domain, dst.domain)
	if b == nil {
		return
	}
	sources, targets := g.sources(b, g.fromSet, src.members), g.targets(b, g.toSet, dst.members)
	near := src.domain == dst.domain
	shares := make([]*gathering, max(1, min(runtime.GOMAXPROCS(0), len(sources)/fewestLots)))
	parallel.Shares(len(sources), len(shares), func(share, first, last int) {
		x := &gathering{gatherer: g.gatherer(g.fromSet, g.toSet), sources: sources[first:last], targets: targets, near: near, met: map[int]*metLots{}}
		x.add(b)
		shares[share] = x
	})
	for _, x := range shares {
		g.take(x.gatherer)
	}
	if near {
		g.addNear(b, src, dst)
	}
}

// fewestLots is how many lots of sources are worth a share of their own.
const fewestLots = 64

// take adds the columns of a share. What they make together does not depend on how many
// there are: of witnesses that tell as much, the first is kept.
func (g *gatherer) take(share *gatherer) {
	for i := range share.out {
		x := &share.out[i]
		c := &g.out[g.column(x.strand)]
		x.pairs.sumInto(&c.pairs)
		c.from.InPlaceUnion(x.from)
		c.to.InPlaceUnion(x.to)
		if x.told > c.told {
			c.strand, c.src, c.dst, c.told = x.strand, x.src, x.dst, x.told
		}
	}
}

// gathering is the flows of a block at hand.
type gathering struct {
	*gatherer
	sources, targets []lot
	near             bool // ways between members of one network are local, and not meant
	met              map[int]*metLots
}

// metLots are the lots that have flows in a column.
type metLots struct{ from, to []met }

// met says which members of a lot have flows: 0 for none, or all, or all but those of
// a network.
type met int32

const all met = -1

// with returns which members have flows if those that are not of a network have some
// too; of paths.None, none are.
func (m met) with(network int) met {
	but := met(network + 1)
	switch {
	case network == paths.None || m != 0 && m != but:
		return all
	}
	return but
}

// add adds the flows to their columns.
func (x *gathering) add(b *block) {
	g := x.gatherer
	amounts, tells := make([]size, len(x.targets)), make([]int, len(x.targets))
	for k := range x.targets {
		amounts[k], tells[k] = g.amounts(g.toSet, x.targets[k].which), g.tellingOf(g.toSet, x.targets[k].which)
	}
	for i := range x.sources {
		l := &x.sources[i]
		amount, telling := g.amounts(g.fromSet, l.which), g.tellingOf(g.fromSet, l.which)
		g.eachBatch(b, l, x.targets, &g.buckets, func(y combination, dsts []int32) {
			vector, occurs := g.settled(y)
			if !occurs { // these are of one network, and addNear would take them all away
				return
			}
			n := g.column(strand{paths.None, vector, nil, y})
			lots := x.lotsOf(n)
			var sum size
			best := 0
			for _, k := range dsts {
				sum.add(amounts[k])
				best = max(best, tells[k])
				if x.near {
					lots.from[i], lots.to[k] = lots.from[i].with(x.targets[k].sole), lots.to[k].with(l.sole)
				} else {
					lots.from[i], lots.to[k] = all, all
				}
			}
			c := &g.out[n]
			c.pairs.product(amount, sum, 1)
			if 1+best+telling > c.told {
				g.exemplify(c, y, l.which, x.targets, dsts, x.near)
			}
		})
	}
	for n, lots := range x.met {
		g.enter(g.out[n].from, g.fromSet, x.sources, lots.from)
		g.enter(g.out[n].to, g.toSet, x.targets, lots.to)
	}
}

func (x *gathering) lotsOf(column int) *metLots {
	lots := x.met[column]
	if lots == nil {
		lots = &metLots{make([]met, len(x.sources)), make([]met, len(x.targets))}
		x.met[column] = lots
	}
	return lots
}

// enter notes the members of lots that have flows.
func (g *gatherer) enter(members *bitset.BitSet, set Set, lots []lot, have []met) {
	for i, m := range have {
		if m == 0 {
			continue
		}
		for _, k := range lots[i].which {
			if m == all || g.network(set[k]) != int(m)-1 {
				members.Set(uint(k))
			}
		}
	}
}

func (s *Survey) amounts(set Set, members []int32) size {
	var sum size
	for _, i := range members {
		sum.add(s.amount(set[i]))
	}
	return sum
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
		if vector, occurs := g.settled(far); occurs {
			c := &g.out[g.column(strand{paths.None, vector, nil, far})]
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
	x, y := s.classes[a.Class], s.classes[b.Class]
	switch {
	case x.Internal() && a.Class != b.Class:
		t.product(s.amount(a), s.amount(b), 1)
	case !x.Internal() && y.Internal() && !a.Only.IsValid() && !b.Only.IsValid():
		t.product(x.size, y.size, 1)
		t.product(shared(x.Ranges, y.Ranges), size{lo: 1}, -1) // as pairs
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
