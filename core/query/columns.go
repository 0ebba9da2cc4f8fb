package query

import (
	"runtime"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/paths"
)

// Column is all class results of a cell that have one vector and one mask.
type Column struct {
	matrix.ClassResult                 // one of them: between workloads, if any is
	Src, Dst           matrix.Member   // its ends
	Rank               int             // how good a witness they make; 0 for none yet
	pairs              intervals.Tally // of addresses
	from, to           *bitset.BitSet  // the members on either side, by place in their set
}

// Columns returns the class results from some endpoints to others, those alike as one.
func Columns(s *matrix.Matrix, from, to matrix.Set) []Column {
	g := gatherer(s, from, to)
	for _, src := range s.SidesOf(from) {
		for _, dst := range s.SidesOf(to) {
			g.add(&src, &dst)
		}
	}
	var out []Column
	for i := range g.out {
		if !g.out[i].pairs.Zero() {
			out = append(out, g.out[i])
		}
	}
	return out
}

func gatherer(s *matrix.Matrix, from, to matrix.Set) *Gatherer {
	return &Gatherer{Matrix: s, FromSet: from, ToSet: to, at: map[columnKey]int{}, plain: make([]int32, len(s.Vectors))}
}

type columnKey struct {
	vector      int32
	publication int
	mask        string // of a shut publication
}

// Gatherer gathers the columns of a cell.
type Gatherer struct {
	*matrix.Matrix
	FromSet, ToSet matrix.Set
	at             map[columnKey]int
	plain          []int32 // by vector: the column that no publication and no publication is about, from 1
	out            []Column
	Buckets        matrix.Batches
}

// column returns the number of the column of a class result.
func (g *Gatherer) column(t matrix.ClassResult) int {
	if t.Publication == paths.None && t.Mask == nil {
		if g.plain[t.Vector] == 0 {
			g.plain[t.Vector] = int32(g.another(t)) + 1
		}
		return int(g.plain[t.Vector]) - 1
	}
	key := columnKey{vector: t.Vector, publication: t.Publication}
	if t.Mask != nil && t.Publication == paths.None {
		key.mask = t.Mask.String()
	}
	n, ok := g.at[key]
	if !ok {
		n = g.another(t)
		g.at[key] = n
	}
	return n
}

// another returns the number of a new column.
func (g *Gatherer) another(t matrix.ClassResult) int {
	g.out = append(g.out, Column{ClassResult: t, from: bitset.New(uint(len(g.FromSet))), to: bitset.New(uint(len(g.ToSet)))})
	return len(g.out) - 1
}

func (g *Gatherer) add(src, dst *matrix.DomainMembers) {
	if src.Domain == len(g.Inside) {
		g.addInbound(src, dst)
		return
	}
	if src.Domain != dst.Domain {
		g.addUnfound(src, dst)
	}
	b := g.Blocks.At(src.Domain, dst.Domain)
	if b == nil {
		return
	}
	sources, targets := g.SourceBuckets(b, g.FromSet, src.Members), g.TargetBuckets(b, g.ToSet, dst.Members)
	near := src.Domain == dst.Domain
	shares := make([]*gathering, max(1, min(runtime.GOMAXPROCS(0), len(sources)/fewestBuckets)))
	parallel.Shares(len(sources), len(shares), func(share, first, last int) {
		x := &gathering{Gatherer: gatherer(g.Matrix, g.FromSet, g.ToSet), sources: sources[first:last], targets: targets, near: near, met: map[int]*metBuckets{}}
		x.add(b)
		shares[share] = x
	})
	for _, x := range shares {
		g.merge(x.Gatherer)
	}
	if near {
		g.addNear(b, src, dst)
	}
}

// fewestBuckets is how many buckets of sources are worth a share of their own.
const fewestBuckets = 64

// merge adds the columns of a share. What they make together does not depend on how many
// there are: of witnesses that tell as much, the first is kept.
func (g *Gatherer) merge(share *Gatherer) {
	for i := range share.out {
		x := &share.out[i]
		c := &g.out[g.column(x.ClassResult)]
		x.pairs.SumInto(&c.pairs)
		c.from.InPlaceUnion(x.from)
		c.to.InPlaceUnion(x.to)
		if x.Rank > c.Rank {
			c.ClassResult, c.Src, c.Dst, c.Rank = x.ClassResult, x.Src, x.Dst, x.Rank
		}
	}
}

// gathering is the flows of a block at hand.
type gathering struct {
	*Gatherer
	sources, targets []matrix.Bucket
	near             bool // paths between members of one network are local, and not meant
	met              map[int]*metBuckets
}

// metBuckets are the buckets that have flows in a column.
type metBuckets struct{ from, to []metMembers }

// metMembers says which members of a bucket have flows: 0 for none, or all, or all but those of
// a network.
type metMembers int32

const all metMembers = -1

// with returns which members have flows if those that are not of a network have some
// too; of paths.None, none are.
func (m metMembers) with(network int) metMembers {
	but := metMembers(network + 1)
	switch {
	case network == paths.None || m != 0 && m != but:
		return all
	}
	return but
}

// add adds the flows to their columns.
func (x *gathering) add(b *matrix.Block) {
	g := x.Gatherer
	sizes, tells := make([]intervals.Size, len(x.targets)), make([]int, len(x.targets))
	for k := range x.targets {
		sizes[k], tells[k] = amountOf(g.Matrix, g.ToSet, x.targets[k].Which), g.RankOf(g.ToSet, x.targets[k].Which)
	}
	for i := range x.sources {
		l := &x.sources[i]
		amount, telling := amountOf(g.Matrix, g.FromSet, l.Which), g.RankOf(g.FromSet, l.Which)
		g.EachBatch(b, l, x.targets, &g.Buckets, func(y matrix.Combination, dsts []int32) {
			vector, occurs := g.Settled(y)
			if !occurs { // these are of one network, and addNear would take them all away
				return
			}
			n := g.column(matrix.ClassResult{Publication: paths.None, Vector: vector, Mask: nil, Combination: y})
			buckets := x.bucketsOf(n)
			var sum intervals.Size
			best := 0
			for _, k := range dsts {
				sum.Add(sizes[k])
				best = max(best, tells[k])
				if x.near {
					buckets.from[i], buckets.to[k] = buckets.from[i].with(x.targets[k].SoleNetwork), buckets.to[k].with(l.SoleNetwork)
				} else {
					buckets.from[i], buckets.to[k] = all, all
				}
			}
			c := &g.out[n]
			c.pairs.Product(amount, sum, 1)
			if 1+best+telling > c.Rank {
				g.Exemplify(c, y, l.Which, x.targets, dsts, x.near)
			}
		})
	}
	for n, buckets := range x.met {
		g.addMembers(g.out[n].from, g.FromSet, x.sources, buckets.from)
		g.addMembers(g.out[n].to, g.ToSet, x.targets, buckets.to)
	}
}

func (x *gathering) bucketsOf(column int) *metBuckets {
	buckets := x.met[column]
	if buckets == nil {
		buckets = &metBuckets{make([]metMembers, len(x.sources)), make([]metMembers, len(x.targets))}
		x.met[column] = buckets
	}
	return buckets
}

// addMembers notes the members of buckets that have flows.
func (g *Gatherer) addMembers(members *bitset.BitSet, set matrix.Set, buckets []matrix.Bucket, have []metMembers) {
	for i, m := range have {
		if m == 0 {
			continue
		}
		for _, k := range buckets[i].Which {
			if m == all || g.network(set[k]) != int(m)-1 {
				members.Set(uint(k))
			}
		}
	}
}

func amountOf(s *matrix.Matrix, set matrix.Set, members []int32) intervals.Size {
	var sum intervals.Size
	for _, i := range members {
		sum.Add(s.Amount(set[i]))
	}
	return sum
}

func (g *Gatherer) network(m matrix.Member) int { return g.Classes[m.Class].End.Home.Network }

// RankOf returns 1 if some of the members are workloads.
func (g *Gatherer) RankOf(set matrix.Set, members []int32) int {
	for _, i := range members {
		if len(g.Classes[set[i].Class].Workloads) > 0 {
			return 1
		}
	}
	return 0
}

// Exemplify finds two members of a batch that have a flow, and make the best
// witness.
func (g *Gatherer) Exemplify(c *Column, x matrix.Combination, src []int32, targets []matrix.Bucket, dsts []int32, near bool) {
	for want := 3; want > c.Rank; want-- {
		for _, srcTells := range []bool{true, false} {
			if dstTells := want == 3 || want == 2 && !srcTells; want > 1 || !srcTells {
				if a, b, ok := g.twoOf(src, targets, dsts, srcTells, dstTells, near); ok {
					c.ClassResult.Combination, c.Src, c.Dst, c.Rank = x, g.FromSet[a], g.ToSet[b], want
					return
				}
			}
		}
	}
}

// twoOf returns a member of either side, workloads where that is asked for; if
// near, of two networks.
func (g *Gatherer) twoOf(src []int32, targets []matrix.Bucket, dsts []int32, srcTells, dstTells, near bool) (a, b int32, ok bool) {
	fits := func(m matrix.Member, tells bool) bool { return !tells || len(g.Classes[m.Class].Workloads) > 0 }
	first, other := int32(-1), int32(-1) // two sources, of two networks
	for _, i := range src {
		switch {
		case !fits(g.FromSet[i], srcTells):
		case first < 0:
			first = i
		case g.network(g.FromSet[i]) != g.network(g.FromSet[first]):
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
		for _, m := range targets[k].Which {
			switch {
			case !fits(g.ToSet[m], dstTells):
			case !near || g.network(g.ToSet[m]) != g.network(g.FromSet[first]):
				return first, m, true
			case other >= 0:
				return other, m, true
			}
		}
	}
	return 0, 0, false
}

// addNear moves the pairs of one network to the columns of local paths.
func (g *Gatherer) addNear(b *matrix.Block, src, dst *matrix.DomainMembers) {
	g.EachNear(g.FromSet, src.Members, g.ToSet, dst.Members, func(i, k int32) {
		x, y := g.FromSet[i], g.ToSet[k]
		near, far := g.NearCombination(b, g.Classes[x.Class], g.Classes[y.Class])
		if vector, occurs := g.Settled(far); occurs {
			c := &g.out[g.column(matrix.ClassResult{Publication: paths.None, Vector: vector, Mask: nil, Combination: far})]
			c.pairs.Product(g.Amount(x), g.Amount(y), -1)
		}
		if g.Distinct(x, y) {
			g.addPair(i, k, matrix.ClassResult{Publication: paths.None, Vector: g.Verdicts[near.Effect][near.RuleSet], Mask: nil, Combination: near})
		}
	})
}

// addPair adds the flows of one class result between two members.
func (g *Gatherer) addPair(i, k int32, t matrix.ClassResult) {
	x, y := g.FromSet[i], g.ToSet[k]
	c := &g.out[g.column(t)]
	count(g.Matrix, &c.pairs, x, y)
	c.from.Set(uint(i))
	c.to.Set(uint(k))
	if told := 1 + g.WitnessRank(x, y); told > c.Rank {
		c.ClassResult, c.Src, c.Dst, c.Rank = t, x, y, told
	}
}

// count adds the pairs of addresses from one member to another.
func count(s *matrix.Matrix, t *intervals.Tally, a, b matrix.Member) {
	x, y := s.Classes[a.Class], s.Classes[b.Class]
	switch {
	case x.Internal() && a.Class != b.Class:
		t.Product(s.Amount(a), s.Amount(b), 1)
	case !x.Internal() && y.Internal() && !a.Only.IsValid() && !b.Only.IsValid():
		t.Product(x.Amount, y.Amount, 1)
		t.Product(matrix.Shared(x.Ranges, y.Ranges), intervals.Size{Lo: 1}, -1) // as pairs
	default:
		t.AddLarge(s.Pairs(a, b))
	}
}

// addUnfound adds the flows to addresses that the source's segment finds nothing
// under, as one batch for each family.
func (g *Gatherer) addUnfound(src, dst *matrix.DomainMembers) {
	for _, four := range []bool{true, false} {
		var out, in []int32
		for _, i := range src.Members {
			if g.Classes[g.FromSet[i].Class].Four == four {
				out = append(out, i)
			}
		}
		for _, k := range dst.Members {
			if y := g.Classes[g.ToSet[k].Class]; y.Four == four && y.Seen[src.Domain] == classes.SeesNothing {
				in = append(in, k)
			}
		}
		if len(out) == 0 || len(in) == 0 {
			continue
		}
		c := &g.out[g.column(matrix.ClassResult{Publication: paths.None, Vector: 0, Mask: nil, Combination: matrix.UnfoundCombination})]
		c.pairs.Product(amountOf(g.Matrix, g.FromSet, out), amountOf(g.Matrix, g.ToSet, in), 1)
		for _, i := range out {
			c.from.Set(uint(i))
		}
		for _, k := range in {
			c.to.Set(uint(k))
		}
		g.Exemplify(c, matrix.UnfoundCombination, out, []matrix.Bucket{{Which: in}}, []int32{0}, false)
	}
}

func (g *Gatherer) addInbound(src, dst *matrix.DomainMembers) {
	for _, i := range src.Members {
		for _, k := range dst.Members {
			if g.Distinct(g.FromSet[i], g.ToSet[k]) {
				g.EachResult(g.FromSet[i].Class, g.ToSet[k].Class, func(t matrix.ClassResult) { g.addPair(i, k, t) })
			}
		}
	}
}
