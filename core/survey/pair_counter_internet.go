package survey

import (
	"bivium/core/lists"
	"bivium/core/paths"
)

func (c *pairCounter) addDoors(from Set, src *side, to Set, dst *side) {
	for _, i := range src.members {
		for _, k := range dst.members {
			if c.selfless(from[i], to[k]) {
				c.eachStrand(from[i].Class, to[k].Class, func(t strand) {
					c.out = append(c.out, weighed{t.combination, c.weightedOutcomes(c.vectors[t.vector], t.mask), 1, c.weight(from[i]) * c.weight(to[k])})
				})
			}
		}
	}
}

// addAllDoors adds all flows from the internet to a segment, those to endpoints of
// one kind behind the same publications at once.
func (c *pairCounter) addAllDoors(segment int) {
	b := c.blocks.at(len(c.inside), segment)
	type behind struct {
		line int32
		spot int
		open string
		only int // a class of one public address, which may be that of its source; else -1
	}
	at := map[behind]int{}
	var which []int // by place in bulks: one of the classes
	var bulks []bulk
	gates := c.gates[segment]
	open := make([]byte, len(gates))
	for k, i := range c.inside[segment] {
		x := c.classes[i]
		for g := range gates {
			open[g] = byte(lists.OneIf(gates[g].open[k]))
		}
		key := behind{b.dst.line(&x.ticket), x.spot, string(open), -1}
		if x.size.one() && !paths.Private(x.End.Addr) {
			key.only = i
		}
		n, known := at[key]
		if !known {
			n = len(which)
			at[key] = n
			which, bulks = append(which, i), append(bulks, bulk{})
		}
		bulks[n].add(bulk{1, x.weight})
	}
	type weightedKey struct {
		vector int32
		mask   string
	}
	weightedOutcomes := map[weightedKey][]weightedOutcome{}
	for _, o := range c.outside {
		for n, i := range which {
			c.eachStrand(o, i, func(t strand) {
				key := weightedKey{vector: t.vector}
				if t.mask != nil {
					key.mask = lists.BitsKey(t.mask)
				}
				known, ok := weightedOutcomes[key]
				if !ok {
					known = c.weightedOutcomes(c.vectors[t.vector], t.mask)
					weightedOutcomes[key] = known
				}
				c.out = append(c.out, weighed{t.combination, known, 1, c.classes[o].weight * bulks[n].weight})
			})
		}
	}
}
