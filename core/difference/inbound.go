package difference

import (
	"fmt"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/revise"
)

// publications compares flows from the internet: they can differ where an inbound path is open
// in one matrix, or an end is there in one only.
func (p *pairing) publicationTurns() {
	if p.blockless || p.kept && p.old.block == p.new.block && lists.Same(p.old.Inbounds[p.old.to], p.new.Inbounds[p.new.to]) && !revise.HoldsAny(p.new.block, p.altered) {
		return
	}
	a, b := p.Domain(p.from), p.Domain(p.to)
	some := p.someAbsent(a)
	known := map[[2]string][][]publicationTurn{} // by publicationPaths before and afterwards, and by source
	inside := b.moved
	if len(a.moved) > 0 || !p.calm() || p.update == nil || p.update.Gates || p.update.Ways { // an exit may be elsewhere, and the block as it was
		inside = lists.Below(len(b.Intersections))
	}
	for _, k := range inside {
		y := &b.Intersections[k]
		if y.old >= 0 && y.new >= 0 && !gated(p.old.Matrix, b.old, b.was[k].At) && !gated(p.new.Matrix, b.new, b.is[k].At) && !some {
			continue
		}
		publicationPaths := [2]string{p.old.publicationPath(y.old), p.new.publicationPath(y.new)}
		lists, ok := known[publicationPaths]
		if !ok {
			lists = make([][]publicationTurn, len(a.Intersections))
			known[publicationPaths] = lists
		}
		for i := range a.Intersections {
			x := &a.Intersections[i]
			if x.Four != y.Four || x.Size.One() && y.Size.One() && x.addrs == y.addrs {
				continue
			}
			if lists[i] == nil {
				lists[i] = p.publicationTurnsOf(x, y)
			}
			for _, d := range lists[i] {
				c := p.change(d.publication, d.delta)
				c.with(int32(i), k, x.Size, y.Size)
				c.subtract(matrix.Shared(x.Ranges, y.Ranges).Big())
			}
		}
	}
}

// publication is where flows through a publication have another verdict.
type publicationTurn struct {
	publication string
	delta       matrix.Delta
}

// publicationPath returns a key of all that flows from one class outside to a class depend on:
// its column, its path class, and the inbound paths that lead there. One public address may be
// that of the source, so such a class is by itself.
func (v *view) publicationPath(class int) string {
	if class < 0 {
		return ""
	}
	c := v.Classes[class]
	if c.Amount.One() && !paths.Private(c.End.Addr) {
		return fmt.Sprint("itself ", class)
	}
	key := fmt.Append(nil, v.block.Dst.Line(&c.Header), " ", c.PathClass)
	for i := range v.Inbounds[v.to] {
		key = append(key, byte(lists.OneIf(v.Inbounds[v.to][i].Open[c.At])))
	}
	return string(key)
}

// someAbsent reports whether some endpoint outside is so in one matrix only.
func (p *pairing) someAbsent(t *AlignedDomain) bool {
	return slices.ContainsFunc(t.Intersections, func(j intersection) bool { return j.old < 0 || j.new < 0 })
}

// gated reports whether a publication leads to a class of a segment, by its place there.
func gated(s *matrix.Matrix, segment int, at int32) bool {
	for i := range s.Inbounds[segment] {
		if s.Inbounds[segment][i].Open[at] {
			return true
		}
	}
	return false
}

// publicationTurnsOf returns where flows from an intersection outside to one inside have another verdict.
func (p *pairing) publicationTurnsOf(x, y *intersection) []publicationTurn {
	leading, leadingNow := p.waysIn(&p.old, x.old, y.old), p.waysIn(&p.new, x.new, y.new)
	out := []publicationTurn{} // and not nil: it is known
	if slices.EqualFunc(leading, leadingNow, sameWayIn) {
		return out
	}
	before, after := p.publicationResults(leading), p.publicationResults(leadingNow)
	names := map[string]bool{}
	for n := range before {
		names[n] = true
	}
	for n := range after {
		names[n] = true
	}
	for n := range names {
		for _, d := range p.apart(before[n], after[n]) {
			out = append(out, publicationTurn{n, d})
		}
	}
	return out
}

// wayIn is how flows from an intersection outside to one inside come out through a publication, or
// where none lets them in.
type wayIn struct {
	publication string
	vector      int32
	mask        *bitset.BitSet // the atoms for which it holds; nil for all
}

func sameWayIn(a, b wayIn) bool {
	return a.publication == b.publication && a.vector == b.vector && (a.mask == b.mask || a.mask != nil && b.mask != nil && a.mask.Equal(b.mask))
}

// waysIn returns the paths in from a class outside to one inside; none where one of the
// two is not there.
func (p *pairing) waysIn(v *view, x, y int) []wayIn {
	if x < 0 || y < 0 {
		return nil
	}
	var out []wayIn
	v.EachResult(x, y, func(t matrix.ClassResult) {
		name := ""
		if t.Publication != paths.None {
			name = v.Judge.PublicationNames()[t.Publication]
		}
		out = append(out, wayIn{name, v.vectors[t.Vector], t.Mask})
	})
	return out
}

// settlements returns the result of each atom, by publication; -1 for no flow.
func (p *pairing) publicationResults(ways []wayIn) map[string][]int32 {
	out := map[string][]int32{}
	for _, w := range ways {
		results := slices.Clone(p.comparer.vectors[w.vector])
		for atom := range results {
			if w.mask != nil && !w.mask.Test(uint(atom)) {
				results[atom] = -1
			}
		}
		out[w.publication] = results
	}
	return out
}
