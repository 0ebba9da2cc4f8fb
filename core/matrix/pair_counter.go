package matrix

import (
	"slices"

	"bivium/core/classes"
)

// PairCounter adds up the combinations of a cell.
type PairCounter struct {
	*Matrix
	ruleSets int
	amounts  []amount // by effect and rule set
	used     []Combination
	out      []Weighted
	buckets  Batches
}

type amount struct {
	pairs int64
	flows float64
	used  bool
}

// NewPairCounter returns an empty pair counter. Its table is as large as there are rule sets and
// effects, so it is used again.
func NewPairCounter(s *Matrix) *PairCounter {
	ruleSets, effects := s.Interner.Len()
	c, ok := s.PairCounters.Get().(*PairCounter)
	if !ok || c.ruleSets < ruleSets || len(c.amounts) < c.ruleSets*effects {
		c = &PairCounter{ruleSets: ruleSets, amounts: make([]amount, ruleSets*effects)}
	}
	c.Matrix = s
	return c
}

// Free gives the pair counter back.
func (c *PairCounter) Free() {
	s := c.Matrix
	c.Matrix, c.out = nil, nil
	s.PairCounters.Put(c)
}

// count adds pairs of members, and about how many pairs of addresses they are,
// to a combination.
func (c *PairCounter) count(x Combination, pairs int64, flows float64) {
	a := &c.amounts[int(x.Effect)*c.ruleSets+int(x.RuleSet)]
	if !a.used {
		a.used = true
		c.used = append(c.used, x)
	}
	a.pairs += pairs
	a.flows += flows
}

// take returns what was added up and is more than nothing, and empties the pair counter.
func (c *PairCounter) take() []Weighted {
	return slices.DeleteFunc(c.TakeAll(), func(w Weighted) bool { return w.Pairs <= 0 })
}

// TakeAll is take, for sums that are parts of others and may be less than nothing.
func (c *PairCounter) TakeAll() []Weighted {
	for _, x := range c.used {
		a := &c.amounts[int(x.Effect)*c.ruleSets+int(x.RuleSet)]
		if a.pairs != 0 {
			c.out = append(c.out, Weighted{x, nil, a.pairs, a.flows})
		}
		*a = amount{}
	}
	c.used = c.used[:0]
	return c.out
}

func (c *PairCounter) add(from Set, src *DomainMembers, to Set, dst *DomainMembers) {
	if src.Domain == len(c.Inside) {
		c.addInbound(from, src, to, dst)
		return
	}
	if src.Domain != dst.Domain {
		c.addUnfound(from, src, to, dst)
	}
	c.addFound(from, src, to, dst)
}

// addFound adds the flows to endpoints that the source's segment finds.
func (c *PairCounter) addFound(from Set, src *DomainMembers, to Set, dst *DomainMembers) {
	b := c.Blocks.At(src.Domain, dst.Domain)
	if b == nil {
		return
	}
	c.addBuckets(b, c.SourceBuckets(b, from, src.Members), c.TargetBuckets(b, to, dst.Members))
	if src.Domain == dst.Domain {
		c.AddNear(b, c.NetworkBuckets(&b.Src, from, src.Members), c.NetworkBuckets(&b.Dst, to, dst.Members))
		c.takeSelves(b, from, src.Members, to, dst.Members)
	}
}

// addBlock adds all flows of a block.
func (c *PairCounter) addBlock(b *Block) {
	c.addBuckets(b, b.Src.allBuckets(), b.Dst.allBuckets())
	if b.From == b.To {
		c.AddNear(b, c.AllNetworkBuckets(&b.Src, b.From), c.AllNetworkBuckets(&b.Dst, b.From))
		for _, i := range c.Inside[b.From] {
			if x := c.Classes[i]; x.Amount.One() {
				c.TakeSelf(b, x)
			}
		}
	}
}

func (c *PairCounter) addBuckets(b *Block, sources, targets []Bucket) {
	if b.To == len(c.Inside) {
		c.addOut(b, sources, targets)
		return
	}
	c.AddRows(b, RowsOf(sources), PlacesOf(targets))
}

// addUnfound adds the flows to addresses that the source's segment finds nothing
// under.
func (c *PairCounter) addUnfound(from Set, src *DomainMembers, to Set, dst *DomainMembers) {
	for _, four := range []bool{false, true} {
		out, in := 0.0, 0.0
		for _, i := range src.Members {
			if c.Classes[from[i].Class].Four == four {
				out += c.weight(from[i])
			}
		}
		for _, k := range dst.Members {
			if x := c.Classes[to[k].Class]; x.Four == four && x.Seen[src.Domain] == classes.SeesNothing {
				in += c.weight(to[k])
			}
		}
		if out > 0 && in > 0 {
			c.out = append(c.out, Weighted{UnfoundCombination, nil, 1, out * in})
		}
	}
}

// addOut adds the flows to external endpoints: their groups, and so their
// columns, depend on the exit that a way leads to.
func (c *PairCounter) addOut(b *Block, sources, targets []Bucket) {
	for i := range sources {
		l := &sources[i]
		c.EachBatch(b, l, targets, &c.buckets, func(x Combination, dsts []int32) {
			var all classes.Amount
			for _, k := range dsts {
				all.Add(targets[k].Amount)
			}
			c.count(x, l.Members*all.Members, l.Weight*all.Weight)
		})
	}
}
