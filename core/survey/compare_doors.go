package survey

import (
	"fmt"
	"slices"

	"bivium/core/paths"
)

// doors compares flows from the internet: they can differ where a gate is open
// in one survey, or an end is there in one only.
func (p *pairing) doors() {
	if p.blockless || p.kept && p.old.block == p.new.block && sameList(p.old.gates[p.old.to], p.new.gates[p.new.to]) && !p.new.block.holdsAny(p.altered) {
		return
	}
	a, b := p.land(p.from), p.land(p.to)
	some := p.someAbsent(a)
	type between struct {
		source  int
		was, is string // doorways
	}
	known := map[between][]door{}
	for k := range b.joints {
		y := &b.joints[k]
		if y.old >= 0 && y.new >= 0 && !p.old.gated(b.old, y.old) && !p.new.gated(b.new, y.new) && !some {
			continue
		}
		for i := range a.joints {
			x := &a.joints[i]
			if x.four != y.four || x.size.one() && y.size.one() && x.addrs == y.addrs {
				continue
			}
			key := between{i, p.old.doorway(y.old), p.new.doorway(y.new)}
			list, ok := known[key]
			if !ok {
				list = p.doorsOf(x, y)
				known[key] = list
			}
			for _, d := range list {
				c := p.change(d.publication, d.delta)
				c.with(int32(i), int32(k), x.size, y.size)
				c.subtract(shared(x.ranges, y.ranges))
			}
		}
	}
}

// door is where flows through a publication fare otherwise.
type door struct {
	publication string
	delta       delta
}

// doorway returns a key of all that flows from one class outside to a class depend on:
// its column, its spot, and the gates that lead there. One public address may be
// that of the source, so such a class is by itself.
func (v *view) doorway(class int) string {
	if class < 0 {
		return ""
	}
	c := v.classes[class]
	if c.size.one() && !paths.Private(c.End.Addr) {
		return fmt.Sprint("itself ", class)
	}
	key := fmt.Append(nil, v.block.dst.line(&c.ticket), " ", c.spot)
	for i := range v.gates[v.to] {
		key = append(key, byte(oneIf(v.gates[v.to][i].open[c.at])))
	}
	return string(key)
}

// someAbsent reports whether some endpoint outside is so in one survey only.
func (p *pairing) someAbsent(t *territory) bool {
	return slices.ContainsFunc(t.joints, func(j joint) bool { return j.old < 0 || j.new < 0 })
}

// gated reports whether a publication leads to a class of a segment.
func (s *Survey) gated(segment, class int) bool {
	return slices.ContainsFunc(s.gates[segment], func(g gate) bool { return g.open[s.classes[class].at] })
}

// doorsOf returns where flows from a joint outside to one inside fare otherwise.
func (p *pairing) doorsOf(x, y *joint) []door {
	before, after := p.fates(&p.old, x.old, y.old), p.fates(&p.new, x.new, y.new)
	names := map[string]bool{}
	for n := range before {
		names[n] = true
	}
	for n := range after {
		names[n] = true
	}
	var out []door
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
			out = append(out, door{n, d})
		}
	}
	return out
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
