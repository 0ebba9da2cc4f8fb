package proof

import (
	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/native/config"
)

// toInternet holds the list to what goes out, through an exit or past every hub.
func (u *unitProof) toInternet(s int, groups []*ownGroup) {
	marks := u.rulesOutside(true)
	for k := range u.outside {
		dst, rules := u.outside[k].class, marks[k]
		if dst.Seen[s] != classes.SeesIt {
			continue
		}
		for _, own := range groups {
			src := u.homes[u.network][own.pieces[0]].class
			if src.Four != dst.Four {
				continue
			}
			c, ok := u.s.CombinationOf(&src.Header, &dst.Header)
			if !ok {
				continue
			}
			if wrong := u.wrong(c, u.passes(true, own.rules.Intersection(rules))); wrong != nil && wrong.Any() {
				u.lookAll(own, u.outside, []int{k}, wrong, true)
			}
		}
	}
}

// rulesOutside returns, by piece of the internet, the rules of one way whose other side has it.
func (u *unitProof) rulesOutside(out bool) []*bitset.BitSet {
	marks := make([]*bitset.BitSet, len(u.outside))
	for i := range marks {
		marks[i] = bitset.New(uint(len(u.rules)))
	}
	for n := range u.rules {
		switch r := &u.rules[n]; {
		case r.out != out:
		case r.peer == nil:
			for i := range marks {
				marks[i].Set(uint(n))
			}
		default:
			for _, set := range r.peer {
				for _, s := range u.outsideOf(set) {
					for i := s.first; i < s.last; i++ {
						marks[i].Set(uint(n))
					}
				}
			}
		}
	}
	return marks
}

// outsideOf returns the pieces of the internet that a set has.
func (p *prover) outsideOf(set *config.Set) []span {
	if known, ok := p.outsides.Load(set); ok {
		return known.([]span)
	}
	out := p.outside.spans(set.Prefixes)
	p.outsides.Store(set, out)
	return out
}

// fromInternet holds the list to what publications let in.
func (u *unitProof) fromInternet(s int, groups []*ownGroup) {
	b := u.s.Blocks.At(len(u.s.Inside), s)
	if b == nil || u.loose {
		return
	}
	if len(u.s.Inbounds[s]) == 0 {
		return
	}
	marks := u.rulesOutside(false)
	for i := range u.s.Inbounds[s] {
		in := &u.s.Inbounds[s][i]
		for k := range u.outside {
			src, rules := u.outside[k].class, marks[k]
			for _, own := range groups {
				dst := u.homes[u.network][own.pieces[0]].class
				if !in.Open[dst.At] || src.Four != dst.Four {
					continue
				}
				ruleSet := b.RuleSet(b.Src.LineAt(u.s.Net, int(src.At), in.Exit), b.Dst.Line(&dst.Header))
				need := u.second[u.meant[ruleSet]].Intersection(u.s.Admits[in.Publication])
				if missing := need.Difference(u.passes(false, own.rules.Intersection(rules))); missing.Any() {
					u.lookAll(own, u.outside, []int{k}, missing, false)
				}
			}
		}
	}
}
