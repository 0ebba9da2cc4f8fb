package survey

import (
	"slices"

	"bivium/core/paths"
)

// doors compares flows from the internet: they can differ where a gate is open
// in one survey, or an end is there in one only.
func (p *pairing) doors() {
	if p.shares() && p.old.net == p.new.net && slices.Equal(p.old.judge.Publications(), p.new.judge.Publications()) && !p.new.block.holdsAny(p.altered) {
		return
	}
	a, b := p.land(p.from), p.land(p.to)
	for k := range b.joints {
		y := &b.joints[k]
		if p.graft != nil && y.old == y.new { // it stays, and so does everybody outside
			continue
		}
		if y.old >= 0 && y.new >= 0 && !p.old.gated(b.old, y.old) && !p.new.gated(b.new, y.new) && !p.someAbsent(a) {
			continue
		}
		for i := range a.joints {
			x := &a.joints[i]
			if x.four != y.four || x.size.one() && y.size.one() && x.addrs == y.addrs {
				continue
			}
			p.doorsOf(int32(i), int32(k))
		}
	}
}

// someAbsent reports whether some endpoint outside is so in one survey only.
func (p *pairing) someAbsent(t *territory) bool {
	return slices.ContainsFunc(t.joints, func(j joint) bool { return j.old < 0 || j.new < 0 })
}

// gated reports whether a publication leads to a class of a segment.
func (s *Survey) gated(segment, class int) bool {
	return slices.ContainsFunc(s.gates[segment], func(g gate) bool { return g.open[s.classes[class].at] })
}

func (p *pairing) doorsOf(i, k int32) {
	x, y := &p.lands[p.from].joints[i], &p.lands[p.to].joints[k]
	before, after := p.fates(&p.old, x.old, y.old), p.fates(&p.new, x.new, y.new)
	names := map[string]bool{}
	for n := range before {
		names[n] = true
	}
	for n := range after {
		names[n] = true
	}
	for n := range names {
		var deltas []delta
		for atom := range p.comparer.old.atoms.Len() {
			at := func(results []int32) int32 {
				if results == nil {
					return -1
				}
				return results[atom]
			}
			deltas = apply(deltas, at(before[n]), at(after[n]), atom, p.comparer.old.atoms.Len())
		}
		for _, d := range deltas {
			p.change(n, d).except(i, k, x.size, y.size, 1)
			p.change(n, d).subtract(shared(x.ranges, y.ranges))
		}
	}
}

// fates returns the result of each atom, by publication; -1 for no flow.
func (p *pairing) fates(v *view, x, y int) map[string][]int32 {
	if x < 0 || y < 0 {
		return nil
	}
	out := map[string][]int32{}
	v.eachStrand(x, y, func(t strand) {
		name := ""
		if t.publication != paths.None {
			name = v.judge.Publications()[t.publication]
		}
		results := slices.Clone(p.comparer.vectors[v.vectors[t.vector]])
		for atom := range results {
			if t.mask != nil && !t.mask.Test(uint(atom)) {
				results[atom] = -1
			}
		}
		out[name] = results
	})
	return out
}
