package matrix

import (
	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/paths"
)

func (c *PairCounter) addInbound(from Set, src *DomainMembers, to Set, dst *DomainMembers) {
	for _, i := range src.Members {
		for _, k := range dst.Members {
			if c.Distinct(from[i], to[k]) {
				c.EachResult(from[i].Class, to[k].Class, func(t ClassResult) {
					c.out = append(c.out, Weighted{t.Combination, c.weightedOutcomes(c.Vectors[t.Vector], t.Mask), 1, c.weight(from[i]) * c.weight(to[k])})
				})
			}
		}
	}
}

// addAllInbound adds all flows from the internet to a segment, those to endpoints of
// one kind behind the same publications at once.
func (c *PairCounter) addAllInbound(segment int) {
	b := c.Blocks.At(len(c.Inside), segment)
	type behind struct {
		line      int32
		PathClass int
		open      string
		only      int // a class of one public address, which may be that of its source; else -1
	}
	at := map[behind]int{}
	var which []int // by place in bulks: one of the classes
	var bulks []classes.Amount
	inbounds := c.Inbounds[segment]
	open := make([]byte, len(inbounds))
	for k, i := range c.Inside[segment] {
		x := c.Classes[i]
		for g := range inbounds {
			open[g] = byte(lists.OneIf(inbounds[g].Open[k]))
		}
		key := behind{b.Dst.Line(&x.Header), x.PathClass, string(open), -1}
		if x.Amount.One() && !paths.Private(x.End.Addr) {
			key.only = i
		}
		n, known := at[key]
		if !known {
			n = len(which)
			at[key] = n
			which, bulks = append(which, i), append(bulks, classes.Amount{})
		}
		bulks[n].Add(classes.Amount{Members: 1, Weight: x.Weight})
	}
	type weightedKey struct {
		vector int32
		mask   string
	}
	weightedOutcomes := map[weightedKey][]weightedOutcome{}
	for _, o := range c.Outside {
		for n, i := range which {
			c.EachResult(o, i, func(t ClassResult) {
				key := weightedKey{vector: t.Vector}
				if t.Mask != nil {
					key.mask = lists.BitsKey(t.Mask)
				}
				known, ok := weightedOutcomes[key]
				if !ok {
					known = c.weightedOutcomes(c.Vectors[t.Vector], t.Mask)
					weightedOutcomes[key] = known
				}
				c.out = append(c.out, Weighted{t.Combination, known, 1, c.Classes[o].Weight * bulks[n].Weight})
			})
		}
	}
}
