package survey

import "slices"

// pairCounter adds up the combinations of a cell.
type pairCounter struct {
	*Survey
	stances int
	amounts []amount // by effect and stance
	used    []combination
	out     []weighed
	buckets buckets
}

type amount struct {
	pairs int64
	flows float64
	used  bool
}

// newPairCounter returns an empty pairCounter. Its table is as large as there are stances and
// effects, so it is used again.
func newPairCounter(s *Survey) *pairCounter {
	stances, effects := s.ledger.len()
	c, ok := s.pairCounters.Get().(*pairCounter)
	if !ok || c.stances < stances || len(c.amounts) < c.stances*effects {
		c = &pairCounter{stances: stances, amounts: make([]amount, stances*effects)}
	}
	c.Survey = s
	return c
}

// free gives the pairCounter back.
func (c *pairCounter) free() {
	s := c.Survey
	c.Survey, c.out = nil, nil
	s.pairCounters.Put(c)
}

// count adds pairs of members, and about how many pairs of addresses they are,
// to a combination.
func (c *pairCounter) count(x combination, pairs int64, flows float64) {
	a := &c.amounts[int(x.effect)*c.stances+int(x.stance)]
	if !a.used {
		a.used = true
		c.used = append(c.used, x)
	}
	a.pairs += pairs
	a.flows += flows
}

// take returns what was added up and is more than nothing, and empties the pairCounter.
func (c *pairCounter) take() []weighed {
	return slices.DeleteFunc(c.takeAll(), func(w weighed) bool { return w.pairs <= 0 })
}

// takeAll is take, for sums that are parts of others and may be less than nothing.
func (c *pairCounter) takeAll() []weighed {
	for _, x := range c.used {
		a := &c.amounts[int(x.effect)*c.stances+int(x.stance)]
		if a.pairs != 0 {
			c.out = append(c.out, weighed{x, nil, a.pairs, a.flows})
		}
		*a = amount{}
	}
	c.used = c.used[:0]
	return c.out
}

func (c *pairCounter) add(from Set, src *side, to Set, dst *side) {
	if src.domain == len(c.inside) {
		c.addDoors(from, src, to, dst)
		return
	}
	if src.domain != dst.domain {
		c.addUnfound(from, src, to, dst)
	}
	c.addFound(from, src, to, dst)
}

// addFound adds the flows to endpoints that the source's segment finds.
func (c *pairCounter) addFound(from Set, src *side, to Set, dst *side) {
	b := c.blocks.at(src.domain, dst.domain)
	if b == nil {
		return
	}
	c.addLots(b, c.sources(b, from, src.members), c.targets(b, to, dst.members))
	if src.domain == dst.domain {
		c.addNear(b, c.residents(&b.src, from, src.members), c.residents(&b.dst, to, dst.members))
		c.takeSelves(b, from, src.members, to, dst.members)
	}
}

// addBlock adds all flows of a block.
func (c *pairCounter) addBlock(b *block) {
	c.addLots(b, b.src.allLots(), b.dst.allLots())
	if b.from == b.to {
		c.addNear(b, c.allResidents(&b.src, b.from), c.allResidents(&b.dst, b.from))
		for _, i := range c.inside[b.from] {
			if x := c.classes[i]; x.size.one() {
				c.takeSelf(b, x)
			}
		}
	}
}

func (c *pairCounter) addLots(b *block, sources, targets []lot) {
	if b.to == len(c.inside) {
		c.addOut(b, sources, targets)
		return
	}
	c.addRows(b, rowsOf(sources), placesOf(targets))
}

// addUnfound adds the flows to addresses that the source's segment finds nothing
// under.
func (c *pairCounter) addUnfound(from Set, src *side, to Set, dst *side) {
	for _, four := range []bool{false, true} {
		out, in := 0.0, 0.0
		for _, i := range src.members {
			if c.classes[from[i].Class].four == four {
				out += c.weight(from[i])
			}
		}
		for _, k := range dst.members {
			if x := c.classes[to[k].Class]; x.four == four && x.seen[src.domain] == seesNothing {
				in += c.weight(to[k])
			}
		}
		if out > 0 && in > 0 {
			c.out = append(c.out, weighed{unfoundCombination, nil, 1, out * in})
		}
	}
}

// addOut adds the flows to external endpoints: their groups, and so their
// columns, depend on the exit that a way leads to.
func (c *pairCounter) addOut(b *block, sources, targets []lot) {
	for i := range sources {
		l := &sources[i]
		c.eachBatch(b, l, targets, &c.buckets, func(x combination, dsts []int32) {
			var all bulk
			for _, k := range dsts {
				all.add(targets[k].bulk)
			}
			c.count(x, l.members*all.members, l.weight*all.weight)
		})
	}
}
